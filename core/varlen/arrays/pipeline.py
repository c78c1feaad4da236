"""The pipeline as code meets it: built from step objects, and able to render arrays."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, overload

import numpy as np
from numpy.typing import NDArray

from varlen.arrays.clips import RenderedClip, is_clip, render_clip, render_picture
from varlen.arrays.nested import render_nested
from varlen.arrays.rendered import Rendered
from varlen.datasets.array_labels import Labels
from varlen.pipeline import document


class Pipeline(document.Pipeline):
    __doc__ = document.Pipeline.__doc__

    @overload
    def render(self, image: Sequence[NDArray[np.uint8]], labels: Sequence[Labels] | None = None, *, key: str = "", variant: int = 1,
               split: str = "train", partners: Sequence[Any] = (), group: str = "", per_frame: bool = False) -> RenderedClip: ...  # fmt: skip
    @overload
    def render(self, image: NDArray[np.uint8], labels: Labels | None = None, *, key: str = "", variant: int = 1, split: str = "train",
               partners: Sequence[Any] = (), group: str = "", per_frame: bool = False) -> Rendered: ...  # fmt: skip
    def render(self, image: Any, labels: Any = None, *, key: str = "", variant: int = 1, split: str = "train", partners: Sequence[Any] = (),
               group: str = "", per_frame: bool = False) -> Any:  # fmt: skip
        """One variant of a picture and its labels: `Rendered`; of a clip: `RenderedClip`.

        image: (H, W, 3) or (H, W, 1) uint8, or a clip: (T, H, W, 3) or a list of frames (type checkers know a clip as a list);
        labels: `Labels`, or None; of a clip a list, one for each frame. The result depends on the pipeline, its seed, `key` and `variant`
        alone; with a dataset's key it is the row that an export writes. variant: 1, 2, …; 0 is the original through the steps for every
        split. split: other than "train", only the steps for every split. partners: (image, labels) or (key, image, labels) of the pictures
        that mosaic, mixup and paste_objects draw from. group: the name draws depend on where the pipeline draws per group. per_frame: of a
        clip, detail steps draw anew for each frame; steps with `per_frame` do in any case. Raises `ArrayError` for arrays that can't be
        right, `RenderError` for a step that can't be carried out.

        >>> import numpy as np, varlen as v
        >>> pipeline = v.Pipeline([v.Flip(probability=1)])
        >>> out = pipeline.render(np.zeros((48, 64, 3), np.uint8), v.Labels(boxes=[[4, 4, 20, 30]], classes=["moth"]))
        >>> out.boxes.tolist(), out.classes, out.lost
        ([[44.0, 4.0, 60.0, 30.0]], ['moth'], [])
        """
        if is_clip(image):
            return render_clip(self, image, labels, key, variant, split, partners, group, per_frame)
        return render_picture(self, image, labels, key, variant, split, partners, group)

    def render_nested(self, data: Any, *, roles: Any = None, key: str = "", variant: int = 1, split: str = "train") -> Any:
        """Any nesting of lists, tuples and dicts through one draw; see `varlen.arrays.nested` for what is taken as what.

        data: holds one picture under a name such as "image", and with it boxes, masks and the like; comes back in the same form, all
        else untouched. roles: what a name stands for where its own word does not say it, such as {"depth": "array", "gt": "boxes"}.
        Raises `ArrayError` where no picture is found, or several.

        >>> import numpy as np, varlen as v
        >>> data = {"image": np.zeros((48, 64, 3), np.uint8), "target": {"boxes": [[4, 4, 20, 30]], "name": "night 1"}}
        >>> v.Pipeline([v.Flip(probability=1)]).render_nested(data)["target"]
        {'boxes': [[44.0, 4.0, 60.0, 30.0]], 'name': 'night 1'}
        """
        return render_nested(lambda image, labels: render_picture(self, image, labels, key, variant, split, (), ""), data, roles)
