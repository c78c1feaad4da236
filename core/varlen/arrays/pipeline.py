"""The pipeline as code meets it: built from step objects, and able to render arrays."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, Protocol, overload

import numpy as np
from numpy.typing import NDArray

from varlen.arrays.clips import RenderedClip, is_clip, move_labels, planned, render_clip, render_picture
from varlen.arrays.nested import render_nested
from varlen.arrays.one_picture import Source
from varlen.arrays.rendered import Rendered
from varlen.datasets.array_labels import Labels
from varlen.datasets.dataset import Dataset
from varlen.pipeline import document
from varlen.render.planner import plan_variant

Partners = Sequence[Any] | Mapping[str, Any] | Dataset


class HoldsArray(Protocol):
    """An object that gives an array of itself: a tensor, some versions of PIL images."""

    def __array__(self) -> Any: ...


class HoldsInterface(Protocol):
    """An object that describes the memory of its array, as some versions of PIL images do."""

    @property
    def __array_interface__(self) -> Any: ...


class Pipeline(document.Pipeline):
    __doc__ = document.Pipeline.__doc__

    @overload
    def render(self, image: str, labels: Labels | None = None, *, key: str = "", variant: int = 1, split: str = "train",
               partners: Partners = (), group: str = "", per_frame: bool = False) -> Rendered: ...  # fmt: skip
    @overload
    def render(self, image: Sequence[NDArray[np.uint8]], labels: Sequence[Labels] | None = None, *, key: str = "", variant: int = 1,
               split: str = "train", partners: Partners = (), group: str = "", per_frame: bool = False) -> RenderedClip: ...  # fmt: skip
    @overload
    def render(self, image: NDArray[np.uint8] | HoldsArray | HoldsInterface | Path, labels: Labels | None = None, *, key: str = "", variant: int = 1,
               split: str = "train", partners: Partners = (), group: str = "", per_frame: bool = False) -> Rendered: ...  # fmt: skip
    def render(self, image: Any, labels: Any = None, *, key: str = "", variant: int = 1, split: str = "train", partners: Partners = (),
               group: str = "", per_frame: bool = False) -> Any:  # fmt: skip
        """One variant of a picture and its labels: `Rendered`; of a clip: `RenderedClip`.

        image: (H, W, 3) or (H, W, 1) uint8, a path, a PIL image or anything with `__array__`; or a clip: (T, H, W, 3) or a list of frames
        (type checkers know a clip as a list). labels: `Labels`, or None; of a clip a list, one for each frame. The result depends on the
        pipeline, its seed, `key` and `variant` alone; with a dataset's key it is the row that an export writes. key: by default the digest of
        the pixels, of a clip those of its first frame, so that other pictures have other draws. variant: 1, 2, …; 0 is the original through
        the steps for every split. split: "validation" and "test" get the steps for every split only. partners: the pictures that mosaic,
        mixup and paste_objects draw from: a list of (image, labels) or (key, image, labels); or a dataset, or a mapping of keys to
        (image, labels), of which only those are read that were drawn. group: the name draws depend on where the pipeline draws per group.
        per_frame: of a clip, detail steps draw anew for each frame; steps with `per_frame` do in any case. Raises `ArrayError` for arrays that
        can't be right, `RenderError` for a step that can't be carried out.

        >>> import numpy as np, varlen as v
        >>> pipeline = v.Pipeline([v.Flip(probability=1)])
        >>> out = pipeline.render(np.zeros((48, 64, 3), np.uint8), v.Labels(boxes=[[4, 4, 20, 30]], classes=["moth"]))
        >>> out.boxes.tolist(), out.classes, out.lost
        ([[44.0, 4.0, 60.0, 30.0]], ['moth'], [])
        """
        if is_clip(image):
            frames = image if isinstance(image, (list, tuple)) else np.asarray(image)
            return render_clip(self, frames, labels, key, variant, split, partners, group, per_frame)
        return render_picture(self, image, labels, key, variant, split, partners, group)

    def move_labels(self, labels: Labels, size: Any, *, key: str, variant: int = 1, split: str = "train") -> Rendered:
        """One variant of a picture's labels, without the picture: `Rendered`, whose `image` can't be asked for.

        labels: `Labels`; size: (width, height) of the picture in px; key, variant, split: as for `render`, but a key is needed, as there are no
        pixels to take one from. Raises `ArrayError` for labels that can't be right, `RenderError` for a step that takes in other pictures.

        >>> import varlen as v
        >>> out = v.Pipeline([v.Flip(probability=1)]).move_labels(v.Labels(boxes=[[4, 4, 20, 30]]), size=(64, 48), key="night_0001")
        >>> out.boxes.tolist(), out.lost
        ([[44.0, 4.0, 60.0, 30.0]], [])
        """
        return move_labels(self, labels, size, key, variant, split)

    def partners(self, dataset: Dataset | Mapping[str, Any], key: str, variant: int, split: str = "train") -> list[str]:
        """Keys of the other pictures that a variant shows, in the order in which they come in; empty where no step takes any in.

        dataset: a `Dataset`, or a mapping of keys to (image, labels), of which only those are read that were drawn. Raises `KeyError` for
        a key that is not in it.

        >>> import varlen as v
        >>> moths = v.read_dataset("moths")
        >>> shown = v.Pipeline([v.Mosaic(probability=1)], seed=20).partners(moths, "images/train/night_0001.jpg", variant=1)
        >>> len(shown), all(name.startswith("images/train/") for name in shown)
        (3, True)
        """
        if isinstance(dataset, Dataset):
            return plan_variant(self, dataset, key, split, variant).partners()
        _, image, labels = Source(dataset).read(key)
        return planned(self, image, labels, key, variant, split, dataset, "", None)[1].partners()

    def render_nested(self, data: Any, *, roles: Any = None, key: str = "", variant: int = 1, split: str = "train") -> Any:
        """Any nesting of lists, tuples and dicts through one draw; see `varlen.arrays.nested` for what is taken as what.

        data: holds one picture under a name such as "image", and with it boxes, masks and the like; comes back in the same form, all
        else untouched. Arrays beside boxes with as many entries keep those of the objects that are left. roles: what a name stands for where
        its own word does not say it, such as {"disparity": "array", "gt": "boxes", "track": "per_object"}. Raises `ArrayError` where no picture
        is found, and for an array that may belong to it and has no role.

        >>> import numpy as np, varlen as v
        >>> data = {"image": np.zeros((48, 64, 3), np.uint8), "target": {"boxes": [[4, 4, 20, 30]], "name": "night 1"}}
        >>> v.Pipeline([v.Flip(probability=1)]).render_nested(data)["target"]
        {'boxes': [[44.0, 4.0, 60.0, 30.0]], 'name': 'night 1'}
        """

        def render(image: Any, labels: Labels, key: str) -> Rendered:
            return render_picture(self, image, labels, key, variant, split)

        return render_nested(render, data, key, roles)
