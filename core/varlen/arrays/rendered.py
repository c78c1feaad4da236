"""What comes out of a render: arrays in the order of what went in, what was lost and why, and the same draw once more."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from varlen.arrays.one_picture import ArrayRenderer, Pictures
from varlen.datasets.array_labels import Labels, full_mask
from varlen.errors import ArrayError
from varlen.kernels.pixel_digest import pixel_digest
from varlen.labels.outcomes import LabelState, ObjectOutcome
from varlen.model.geometry import Size
from varlen.model.objects import Objects
from varlen.pipeline.plan import Plan
from varlen.pipeline.trace import Trace
from varlen.render.again import carried
from varlen.render.back import array_back, back
from varlen.render.normalization import pipeline_figures
from varlen.render.renderer import lightness
from varlen.shapes.polygons import all_masks, object_area, ring_list


class Loss(NamedTuple):
    """An object that was lost or cut: its id (its place where it has none), why, by which step, and the share of it that is left, 0 … 1.

    >>> import numpy as np, varlen as v
    >>> labels = v.Labels(boxes=[[2, 2, 12, 12]], ids=["a"])
    >>> v.Pipeline([v.Shift(x_fraction=(-0.5, -0.5), y_fraction=(0, 0))]).render(np.zeros((48, 64, 3), np.uint8), labels).lost
    [Loss(id='a', reason='outside the frame', step='shift', share=0.0)]
    """

    id: Any
    reason: str
    step: str
    share: float = 0.0


class Rendered:
    """One variant as arrays. Made by `Pipeline.render`.

    What went in comes out in the same order, only what survived; parts that were not given are None. Labels of partners follow
    (mosaic, mixup, paste_objects); their place in `kept` is −1.

    >>> import numpy as np, varlen as v
    >>> out = v.Pipeline([v.QuarterTurn(turns=(1,))]).render(np.zeros((48, 64, 3), np.uint8), v.Labels(boxes=[[4, 4, 20, 30]]), key="a", variant=2)
    >>> out
    Rendered('a', variant 2: 48×64 px, 1 objects)
    >>> out.image.shape, out.kept.tolist(), out.share.tolist(), out.label_map is None
    ((64, 48, 3), [0], [1.0], True)
    """

    _has_pixels = True

    def __init__(self, renderer: ArrayRenderer, plan: Plan, state: LabelState, labels: Labels, variant: int, original: NDArray[np.uint8]) -> None:
        self._renderer, self._plan, self._state, self._labels = renderer, plan, state, labels
        self.variant, self.key, self._original = variant, plan.image, original

    @property
    def _objects(self) -> Objects:
        return self._state.objects

    @property
    def _pictures(self) -> Pictures:
        assert isinstance(self._renderer.dataset, Pictures)
        return self._renderer.dataset

    @cached_property
    def image(self) -> NDArray[np.uint8]:
        """The picture, (H, W, 3) uint8; (H, W, 1) where a step made it gray or a gray one went in. An array of its own."""
        pixels = self._renderer.pixels(self._plan)
        if self._plan.gray or self._original.shape[2] == 1:
            return lightness(pixels)
        own = pixels.flags.c_contiguous and pixels.flags.owndata and not np.may_share_memory(pixels, self._original)
        return pixels if own else np.array(pixels, order="C")

    @cached_property
    def normalized(self) -> NDArray[np.float32]:
        """The picture after the pipeline's `normalize` steps, (H, W, C) float32. Raises `ArrayError` where there is none, or one without figures."""
        figures = pipeline_figures(self._renderer.pipeline, None)
        if figures is None:
            raise ArrayError("normalized: the pipeline has no normalize step; add v.Normalize(mean=…, std=…)")
        return figures.apply(self.image)

    @property
    def size(self) -> Size:
        """Width and height, px."""
        return self._plan.size

    @cached_property
    def boxes(self) -> NDArray[np.float64] | None:
        """(N, 4) x_min, y_min, x_max, y_max in px; where no boxes were given, those around what was. None without objects' labels."""
        return self._objects.boxes.copy() if self._has_objects else None

    @cached_property
    def classes(self) -> Any:
        """Classes as they went in: a list of names, or an array; None where none were given."""
        if self._labels.classes is None:
            return None
        found = [self._pictures.values[place] for place in self._objects.classes.tolist()]
        given = self._labels.classes
        return np.array(found, given.dtype) if isinstance(given, np.ndarray) else found

    @cached_property
    def keypoints(self) -> NDArray[np.float64] | None:
        """(N, K, 3) x, y, visibility; points out of the picture are not labelled: 0, 0, 0. None where none were given."""
        return None if self._labels.keypoints is None else self._objects.keypoints.copy()

    @cached_property
    def masks(self) -> Any:
        """Instance masks of the new size as they went in: an array (N, H, W), or a list with None where an object has none.

        Of labels that have outlines and no masks, those of the outlines, (N, H, W) bool: the pixels whose centres lie inside.
        """
        given = self._labels.masks
        if given is None:
            return None if self._labels.polygons is None else all_masks(self._objects, self.size, outlines=True)
        kind = next((mask.dtype for mask in given if mask is not None), np.dtype(np.bool_))
        found = [full_mask(mask, self.size) for mask in self._objects.masks]
        cast = [None if mask is None else mask.astype(kind, copy=False) for mask in found]
        if any(mask is None for mask in cast):
            return cast
        return np.array(cast, kind).reshape(-1, self.size.height, self.size.width)

    @property
    def areas(self) -> NDArray[np.float64]:
        """(N,) the area of each object in px²: of its mask, else of its outline, else of its box."""
        found = self._objects
        return np.array([object_area(found, place) for place in range(len(found))], np.float64)

    @cached_property
    def polygons(self) -> list[list[NDArray[np.float64]] | None] | None:
        """For each object its rings, (P, 2) x, y: outlines, each followed by its holes; None for an object without."""
        if self._labels.polygons is None:
            return None
        alone = self._objects.oriented.only()
        return [None if place in alone else ring_list(polygon) for place, polygon in enumerate(self._objects.polygons)]

    @cached_property
    def oriented(self) -> Any:
        """Corners of oriented boxes, (N, 4, 2), or a list with None where an object has none; None where none were given."""
        if self._labels.oriented is None:
            return None
        found = [self._objects.oriented.of_object(place) for place in range(len(self._objects))]
        return found if any(each is None for each in found) else np.array(found).reshape(-1, 4, 2)

    @cached_property
    def label_map(self) -> NDArray[Any] | None:
        """The class of every pixel, of the type that went in; `void` where no source pixel reaches. None where none was given."""
        given = self._labels.label_map
        if given is None:
            return None
        if self._pictures.entries[self.key].label_map:
            found = self._renderer.label_map(self._plan)
            return None if found is None else np.array(found, order="C")
        return carried(self._renderer, self._plan, {self.key: given}, self._labels.void, nearest=True)

    @cached_property
    def ids(self) -> Any:
        """Ids as they went in; the places of objects where none were given."""
        names = self._by_name
        found = [names.get((image, name), name) for image, name in zip(self._objects.images, self._objects.ids, strict=True)]
        return np.array(found) if isinstance(self._labels.ids, np.ndarray) else found

    @cached_property
    def kept(self) -> NDArray[np.int64]:
        """For each object its place in what went in, −1 for those of partners."""
        places = {name: place for place, name in enumerate(self._labels.internal_ids())}
        found = [places.get(name, -1) if image == self.key else -1 for image, name in zip(self._objects.images, self._objects.ids, strict=True)]
        return np.array(found, np.int64)

    @cached_property
    def share(self) -> NDArray[np.float64]:
        """(N,) how much of each object is still in the picture, 0 … 1."""
        return self._objects.share.copy()

    @cached_property
    def lost(self) -> list[Loss]:
        """Objects that are gone, and why."""
        return self._losses("dropped")

    @cached_property
    def clipped(self) -> list[Loss]:
        """Objects of which a part is gone, and why."""
        return self._losses("clipped")

    @cached_property
    def image_classes(self) -> dict[str, float]:
        """Image-level classes and how much of the picture stands for each; mixing pictures shares them out."""
        return self._renderer.classes(self._plan)

    @cached_property
    def trace(self) -> Trace:
        """Everything that was drawn and what became of the objects, as JSON has it, with the digest of the pixels."""
        trace = self._renderer.trace_of(self._plan, self._state, self.variant)
        if self._has_pixels:
            trace["pixel_digest"] = pixel_digest(self.image)
        return trace

    @property
    def labels(self) -> Labels:
        """All labels as one, ready for another render or for `to_xywh` and its like."""
        skeleton, mirrored = self._labels.skeleton, self._labels.mirror_classes
        whole, rings = self._objects.polygons, self.polygons
        polygons = None if rings is None else [None if each is None else whole[place] for place, each in enumerate(rings)]
        ids = self.ids if self._labels.ids is not None else None
        masks = self.masks if self._labels.masks is not None else None
        return Labels(boxes=self.boxes, classes=self.classes, keypoints=self.keypoints, skeleton=skeleton, masks=masks, polygons=polygons,
                      oriented=self.oriented, label_map=self.label_map, ids=ids, image_classes=tuple(self.image_classes),
                      mirror_classes=mirrored, outside="keep", void=self._labels.void)  # fmt: skip

    def again(self, array: NDArray[Any], fill: float = 0, nearest: bool = False, partners: Sequence[NDArray[Any]] = ()) -> NDArray[Any]:
        """The same draw's geometry on another array of the picture's size: a depth map, a second camera, a heat map, many bands.

        array: (H, W) or (H, W, C), whole numbers, floats or bool; the result has its type. fill: what becomes of pixels that no source
        pixel reaches; nearest: move values as they are, for classes and ids, instead of interpolating. partners: the arrays of the
        pictures that were mixed in, in their order. Raises `ArrayError` for an array of another size.

        >>> import numpy as np, varlen as v
        >>> out = v.Pipeline([v.Shift(x_fraction=(0.25, 0.25), y_fraction=(0, 0))]).render(np.zeros((40, 80, 3), np.uint8))
        >>> depth = np.full((40, 80), 1.5, np.float32)
        >>> moved = out.again(depth, fill=-1)
        >>> moved.dtype, moved[0, 19], moved[0, 20]
        (dtype('float32'), np.float32(-1.0), np.float32(1.5))
        """
        keys = [key for key in self._pictures.files.pictures if key != self.key]
        if partners and len(partners) != len(keys):
            raise ArrayError(f"again: {len(partners)} partners for {len(keys)} that were rendered")
        return carried(self._renderer, self._plan, {self.key: array, **dict(zip(keys, partners, strict=False))}, fill, nearest)

    def back(self, values: Any, *, key: str = "") -> Any:
        """Predictions made on this variant, on its source picture: the way back of the same draw.

        values: points (N, 2), boxes (N, 4), keypoints (N, K, 2) or (N, K, 3), a list of outlines (P, 2), or an array (H, W) or (H, W, C) of the
        variant's size, such as a mask or a heat map. Comes back in the same form as float64, of an array in the source's size; `keys` of the
        result names for each entry the picture it lies in, its own or a partner's of a mosaic. What lies in blank area is NaN, and has
        no key. A box is the one around what comes back of its border. key: of an array, the partner on which it is wanted. Exact for affine and
        perspective moves and for bends; left and right keypoints of a mirrored picture change places again. Raises `ArrayError` for another shape.

        >>> import numpy as np, varlen as v
        >>> out = v.Pipeline([v.Flip(probability=1)]).render(np.zeros((48, 64, 3), np.uint8), key="night_0001")
        >>> found = out.back([[44.0, 4.0, 60.0, 30.0]])
        >>> found.tolist(), found.keys
        ([[4.0, 4.0, 20.0, 30.0]], ['night_0001'])
        """
        entries = self._pictures.entries
        if key:
            if key not in entries:
                raise ArrayError(f"back: {key!r} is not in this variant; there are {', '.join(entries)}")
            return array_back(self._plan, np.asarray(values), key, lambda name: entries[name].size)
        return back(self._plan, values, lambda name: entries[name].size, self._pictures.swap)

    def __repr__(self) -> str:
        lost = f", {len(self.lost)} lost" if self.lost else ""
        key = self.key if len(self.key) <= 60 else f"{self.key[:14]}…"
        return f"Rendered({key!r}, variant {self.variant}: {self.size.width}×{self.size.height} px, {len(self._objects)} objects{lost})"

    def _repr_png_(self) -> bytes:
        from varlen.arrays.thumbnails import before_and_after

        return before_and_after(self)

    @property
    def _has_objects(self) -> bool:
        given = (self._labels.boxes, self._labels.masks, self._labels.polygons, self._labels.oriented, self._labels.keypoints)
        return any(part is not None for part in given)

    @cached_property
    def _by_name(self) -> dict[tuple[str, str], Any]:
        """Ids as they went in, by picture and internal name."""
        own = range(len(self._labels)) if self._labels.ids is None else self._labels.ids
        return {(self.key, name): given for name, given in zip(self._labels.internal_ids(), own, strict=True)}

    def _losses(self, kind: str) -> list[Loss]:
        def loss(outcome: ObjectOutcome) -> Loss:
            return Loss(self._by_name.get((outcome.image, outcome.id), outcome.id), outcome.reason, outcome.step, outcome.share)

        return [loss(each) for each in self._state.outcomes() if each.outcome == kind and each.image == self.key]


class MovedLabels(Rendered):
    """One variant's labels, of a picture that was not given. Made by `Pipeline.move_labels`."""

    _has_pixels = False

    @property
    def image(self) -> NDArray[np.uint8]:
        """Raises `ArrayError`: there is no picture."""
        raise ArrayError("move_labels: no picture was given; write pipeline.render(image, labels, key=…) for pixels too")
