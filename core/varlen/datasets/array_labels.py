"""Labels given as arrays: checked, turned into objects, and back.

Inside there is one convention: boxes are x_min, y_min, x_max, y_max in continuous pixels, (0, 0) being the upper left corner of the
upper left pixel. Whatever else boxes come as is named: `Labels.from_xywh` and its like.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any, Literal, get_args

import numpy as np
from numpy.typing import ArrayLike, NDArray

from varlen.datasets.array_checks import check_boxes, check_inside, checked_mask, inverted, numbers, picture_size, same_length
from varlen.datasets.level_rules import VOID
from varlen.datasets.skeleton import Skeleton
from varlen.errors import ArrayError
from varlen.model.geometry import Size
from varlen.model.objects import Mask, Objects, Part, Polygon, make_objects
from varlen.shapes.polygons import bounds, clipped

Outside = Literal["raise", "clip", "keep"]
#: An object that is nothing but points gets a box at least so wide, px, for a point has no area to be kept or lost.
POINT_BOX = 8.0


class Labels:
    """What is known of one picture. All parts are optional; those that are given have one place per object.

    boxes: (N, 4) x_min, y_min, x_max, y_max in px; classes: N names or numbers; keypoints: (N, K, 3) x, y, visibility (0 not
    labelled, 1 hidden, 2 visible); skeleton: a `Skeleton`, or the K names, from which mirror partners are derived; masks: N of (H, W)
    bool, or uint8 of 0 and 1; polygons: for each object a ring (P, 2) or several, or `Part` objects with holes; oriented: (N, 4, 2) corners,
    the first edge is the front; label_map: the class of every pixel, (H, W) or (H, W, C) of any type; ids: N distinct names; crowd: N
    truth values, a region of many; image_classes: names of what the whole picture shows; mirror_classes: pairs of classes that a mirror
    turns into each other. Within masks, polygons and oriented an object without one has None.

    outside: what to do with labels that reach out of the picture, or boxes that end before they begin: "raise", "clip" (cut to the
    picture beforehand) or "keep" (as they are: what is outside counts as lost, by the step "source"). void: what pixels of the label
    map become that no source pixel reaches. Raises `ArrayError` with one sentence that says what to write instead.

    >>> import varlen as v
    >>> labels = v.Labels(boxes=[[10, 20, 60, 80]], classes=["moth"])
    >>> len(labels), labels.boxes.tolist(), labels.to_xywh().tolist()
    (1, [[10.0, 20.0, 60.0, 80.0]], [[10.0, 20.0, 50.0, 60.0]])
    """

    def __init__(
        self, *, boxes: ArrayLike | None = None, classes: Sequence[Any] | NDArray[Any] | None = None, keypoints: ArrayLike | None = None,
        skeleton: Skeleton | Sequence[str] | None = None, masks: Sequence[Any] | NDArray[Any] | None = None,
        polygons: Sequence[Any] | None = None, oriented: Sequence[Any] | NDArray[Any] | None = None, label_map: NDArray[Any] | None = None,
        ids: Sequence[Any] | NDArray[Any] | None = None, crowd: Sequence[bool] | NDArray[np.bool_] | None = None,
        image_classes: Sequence[str] = (), mirror_classes: Mapping[str, str] | None = None, outside: Outside = "raise", void: int = VOID,
    ) -> None:  # fmt: skip
        if outside not in get_args(Outside):
            raise ArrayError(f"outside: {outside!r} is none of 'raise', 'clip', 'keep'")
        self.outside, self.void = outside, void
        self.boxes = None if boxes is None else numbers(boxes, "boxes", 4, 2, "; one box is [[x_min, y_min, x_max, y_max]]")
        self.keypoints = None if keypoints is None else numbers(keypoints, "keypoints", 3, 3, "; each point is x, y, visibility (0, 1 or 2)")
        self.masks = None if masks is None else [checked_mask(mask, place) for place, mask in enumerate(masks)]
        self.polygons = None if polygons is None else [_polygon(rings, place) for place, rings in enumerate(polygons)]
        self.oriented = None if oriented is None else [_corners(each, place) for place, each in enumerate(oriented)]
        self.classes, self.ids = _column(classes, "classes"), _column(ids, "ids")
        self.crowd = None if crowd is None else np.asarray(crowd, np.bool_).reshape(-1)
        self.label_map = label_map if label_map is None else _label_map(label_map)
        self.image_classes = _names(image_classes)
        self.mirror_classes = dict(mirror_classes or {})
        self.skeleton = skeleton if isinstance(skeleton, Skeleton) else Skeleton(tuple(skeleton or ()))
        stack: tuple[int, ...] = tuple(getattr(masks, "shape", ()))
        others = {len(part) for part in (self.boxes, self.classes, self.keypoints) if part is not None}
        if len(stack) == 3 and others == {stack[2]} != {stack[0]}:
            raise ArrayError(f"masks: expected (N, H, W), not shape {stack}; write masks.transpose(2, 0, 1)")
        self._stack = stack
        parts = ("boxes", "classes", "keypoints", "masks", "polygons", "oriented", "ids", "crowd")
        self._count = same_length({name: -1 if getattr(self, name) is None else len(getattr(self, name)) for name in parts})
        self._check()
        self._objects: tuple[tuple[Any, ...], Objects] | None = None

    def _check(self) -> None:
        if self.boxes is not None and self.outside == "raise":
            check_boxes(self.boxes)
        if self._count and all(part is None for part in (self.boxes, self.keypoints, self.masks, self.polygons, self.oriented)):
            raise ArrayError("classes without boxes, masks, polygons, oriented boxes or keypoints: for what the whole picture shows write "
                             "Labels(image_classes=[…])")  # fmt: skip
        if self.ids is not None and len(set(map(str, self.ids))) < len(self.ids):
            twice = next(name for name in map(str, self.ids) if list(map(str, self.ids)).count(name) > 1)
            raise ArrayError(f"ids: {twice!r} is there more than once")
        if self.keypoints is not None and self.keypoints.size:
            if not np.isin(self.keypoints[:, :, 2], (0, 1, 2)).all():
                raise ArrayError("keypoints: visibility is 0 (not labelled), 1 (hidden) or 2 (visible)")
            if self.skeleton.names and len(self.skeleton.names) != self.keypoints.shape[1]:
                raise ArrayError(f"keypoints: {self.keypoints.shape[1]} of each object, the skeleton names {len(self.skeleton.names)}")
        for name in ("masks", "polygons", "oriented"):
            without = [place for place, each in enumerate(getattr(self, name) or ()) if each is None]
            other = [each for each in ("boxes", "keypoints", "masks", "polygons", "oriented") if each != name and getattr(self, each) is not None]
            if without and not other:
                raise ArrayError(f"{name}[{without[0]}]: nothing says where this object is; leave it out, or give boxes too")

    def __len__(self) -> int:
        return self._count

    def __bool__(self) -> bool:
        return True

    def __repr__(self) -> str:
        names = ("boxes", "classes", "keypoints", "masks", "polygons", "oriented", "label_map", "ids", "image_classes")
        given = [name for name in names if getattr(self, name) is not None and len(getattr(self, name))]
        return f"Labels({self._count} objects: {', '.join(given) or 'nothing'})"

    # Conventions of boxes.

    @classmethod
    def from_xywh(cls, boxes: ArrayLike, **others: Any) -> Labels:
        """Boxes given as x_min, y_min, width, height in px. others: as for `Labels`.

        >>> from varlen import Labels
        >>> Labels.from_xywh([[10, 20, 50, 60]]).boxes.tolist()
        [[10.0, 20.0, 60.0, 80.0]]
        """
        return cls(boxes=_converted(boxes, lambda b: (b[:, 0], b[:, 1], b[:, 0] + b[:, 2], b[:, 1] + b[:, 3])), **others)

    @classmethod
    def from_centre(cls, boxes: ArrayLike, **others: Any) -> Labels:
        """Boxes given as x and y of the centre, width, height in px, (N, 4). others: as for `Labels`.

        >>> from varlen import Labels
        >>> Labels.from_centre([[35, 50, 50, 60]]).boxes.tolist()
        [[10.0, 20.0, 60.0, 80.0]]
        """
        return cls(boxes=_converted(boxes, _around_centre), **others)

    @classmethod
    def from_fractions(cls, boxes: ArrayLike, size: Any, **others: Any) -> Labels:
        """Boxes given as x_min, y_min, x_max, y_max in shares of the picture, 0 … 1; size: the picture, or (width, height).

        >>> from varlen import Labels
        >>> Labels.from_fractions([[0.25, 0.5, 0.5, 1.0]], (640, 480)).boxes.tolist()
        [[160.0, 240.0, 320.0, 480.0]]
        """
        return cls(boxes=_converted(_in_px(boxes, size), lambda b: b.T), **others)

    @classmethod
    def from_centre_fractions(cls, boxes: ArrayLike, size: Any, **others: Any) -> Labels:
        """Boxes given as x and y of the centre, width, height in shares of the picture, 0 … 1; size: the picture, or (width, height).

        >>> from varlen import Labels
        >>> Labels.from_centre_fractions([[0.5, 0.5, 0.25, 0.5]], (640, 480)).boxes.tolist()
        [[240.0, 120.0, 400.0, 360.0]]
        """
        return cls(boxes=_converted(_in_px(boxes, size), _around_centre), **others)

    @classmethod
    def from_voc(cls, boxes: ArrayLike, **others: Any) -> Labels:
        """Boxes given as in Pascal VOC: first and last pixel, counted from 1, both included.

        >>> from varlen import Labels
        >>> Labels.from_voc([[11, 21, 60, 80]]).boxes.tolist()
        [[10.0, 20.0, 60.0, 80.0]]
        """
        return cls(boxes=_converted(boxes, lambda b: (b[:, 0] - 1, b[:, 1] - 1, b[:, 2], b[:, 3])), **others)

    def to_xywh(self) -> NDArray[np.float64]:
        """The boxes as x_min, y_min, width, height in px, (N, 4)."""
        return _converted(self._own_boxes(), lambda b: (b[:, 0], b[:, 1], b[:, 2] - b[:, 0], b[:, 3] - b[:, 1]))

    def to_centre(self) -> NDArray[np.float64]:
        """The boxes as x and y of the centre, width, height in px, (N, 4)."""
        middle = lambda b: ((b[:, 0] + b[:, 2]) / 2, (b[:, 1] + b[:, 3]) / 2, b[:, 2] - b[:, 0], b[:, 3] - b[:, 1])  # noqa: E731
        return _converted(self._own_boxes(), middle)

    def to_fractions(self, size: Any) -> NDArray[np.float64]:
        """The boxes as x_min, y_min, x_max, y_max in shares of the picture, (N, 4); size: the picture, or (width, height)."""
        return self._own_boxes() / np.array(picture_size(size) * 2, np.float64)

    def to_centre_fractions(self, size: Any) -> NDArray[np.float64]:
        """The boxes as x and y of the centre, width, height in shares of the picture, (N, 4); size: the picture, or (width, height)."""
        return self.to_centre() / np.array(picture_size(size) * 2, np.float64)

    def to_voc(self) -> NDArray[np.float64]:
        """The boxes as in Pascal VOC, not rounded: first and last pixel, counted from 1, both included, (N, 4)."""
        return _converted(self._own_boxes(), lambda b: (b[:, 0] + 1, b[:, 1] + 1, b[:, 2], b[:, 3]))

    def _own_boxes(self) -> NDArray[np.float64]:
        return self.boxes if self.boxes is not None else np.array([self._around(place, None) for place in range(self._count)]).reshape(-1, 4)

    # Objects and back.

    def objects(self, key: str, size: Size, places: Mapping[Any, int], name: str = "labels", points: int = 0) -> Objects:
        """The labels as objects of a picture of `size` whose key is `key`. places: the place of each class; points: how many keypoints
        objects have whose labels give none.

        Raises `ArrayError`, beginning with `name`, for what can't be on a picture of this size.
        """
        fits = (key, size, points, tuple(places.items()))
        if self._objects is None or self._objects[0] != fits:
            self._objects = (fits, self._made(key, size, places, name, points))
        return self._objects[1]

    def internal_ids(self) -> list[str]:
        """What each object is called inside: its own id as text, or its place."""
        return [str(place) for place in range(self._count)] if self.ids is None else [str(each) for each in self.ids]

    def _made(self, key: str, size: Size, places: Mapping[Any, int], name: str, points_each: int) -> Objects:
        if len(self._stack) == 3 and self._stack[:2] == (size.height, size.width) != self._stack[1:]:
            raise ArrayError(f"{name}: masks: expected (N, H, W), not shape {self._stack}; write masks.transpose(2, 0, 1)")
        for number, mask in enumerate(self.masks or ()):
            if mask is not None and mask.shape != (size.height, size.width):
                raise ArrayError(f"{name}: masks[{number}] is {mask.shape[1]}×{mask.shape[0]} px, the picture {size.width}×{size.height} px")
        if self.label_map is not None and self.label_map.shape[:2] != (size.height, size.width):
            height, width = self.label_map.shape[:2]
            raise ArrayError(f"{name}: label_map is {width}×{height} px, the picture {size.width}×{size.height} px")
        if self.outside == "raise":
            self._check_inside(size)
        count = self._count
        boxes = np.array([self._around(place, size) for place in range(count)]).reshape(-1, 4) if self.boxes is None else self.boxes
        oriented = self.oriented or ()
        points = np.zeros((count, points_each, 3)) if self.keypoints is None else self.keypoints
        if self.outside == "clip" and count:
            boxes = np.clip(boxes, 0.0, np.array(size * 2, np.float64))
            outside = np.asarray(((points[:, :, :2] < 0) | (points[:, :, :2] > np.array(size))).any(axis=2), np.bool_)
            points = np.where(outside[:, :, None], 0.0, points)
        boxes = np.where(inverted(boxes)[:, None], np.repeat(boxes[:, :2], 2, axis=0).reshape(-1, 4), boxes) if count else boxes
        masks = [None if mask is None else Mask.tight(mask) for mask in self.masks or [None] * count]
        try:
            numbers_of = [0] * count if self.classes is None else [places[each] for each in self.classes]
        except KeyError as error:
            raise ArrayError(f"{name}: the class {error.args[0]!r} is not among the dataset's {len(places) // 2 or len(places)}") from None
        crowd = [False] * count if self.crowd is None else self.crowd.tolist()
        polygons = self.polygons or [None] * count
        if self.outside == "clip":
            polygons = _clipped(polygons, size)
        return make_objects(
            self.internal_ids(), key, numbers_of, boxes.tolist(), polygons, masks, points, crowd, [{} for _ in range(count)], oriented
        )

    def _check_inside(self, size: Size) -> None:
        if self.boxes is not None:
            check_inside(self.boxes, size, "boxes")
        if self.keypoints is not None and self.keypoints.size:
            labelled = self.keypoints[:, :, 2:] > 0
            check_inside(np.where(labelled, self.keypoints[:, :, :2], 0.0), size, "keypoints")
        for number, polygon in enumerate(self.polygons or ()):
            if polygon is not None:
                x0, y0, x1, y1 = bounds(polygon)
                check_inside(np.array([[x0, y0, x1, y1]]), size, f"polygons[{number}]")

    def _around(self, place: int, size: Size | None) -> tuple[float, float, float, float]:
        """The box around whatever an object has: its mask, its outline, its oriented box, or its points."""
        mask, polygon = (self.masks or {place: None})[place], (self.polygons or {place: None})[place]
        corners = self.oriented[place] if self.oriented is not None else None
        if mask is not None:
            tight = Mask.tight(mask)
            assert tight is not None
            return tight.box
        if polygon is not None:
            return bounds(polygon)
        if corners is not None:
            return (*corners.min(axis=0).tolist(), *corners.max(axis=0).tolist())
        points = self.keypoints[place] if self.keypoints is not None else np.zeros((0, 3))
        seen = points[points[:, 2] > 0, :2]
        if not len(seen):
            raise ArrayError(f"keypoints[{place}]: none is labelled, so nothing says where this object is; leave it out, or give boxes too")
        low, high = seen.min(axis=0), seen.max(axis=0)
        middle, half = (low + high) / 2, np.maximum(high - low, POINT_BOX) / 2
        if size is not None:
            middle = np.clip(middle, np.minimum(half, np.array(size) / 2), np.maximum(np.array(size) - half, np.array(size) / 2))
        return (*(middle - half).tolist(), *(middle + half).tolist())


def _converted(boxes: ArrayLike, columns: Callable[[NDArray[np.float64]], Any]) -> NDArray[np.float64]:
    found = numbers(boxes, "boxes", 4, 2)
    return np.stack(list(columns(found)), axis=1).reshape(-1, 4)


def _around_centre(b: NDArray[np.float64]) -> tuple[NDArray[np.float64], ...]:
    return b[:, 0] - b[:, 2] / 2, b[:, 1] - b[:, 3] / 2, b[:, 0] + b[:, 2] / 2, b[:, 1] + b[:, 3] / 2


def _in_px(boxes: ArrayLike, size: Any) -> NDArray[np.float64]:
    """Shares of a picture in px. Raises `ArrayError` where they are px already."""
    found = numbers(boxes, "boxes", 4, 2)
    if found.size and float(np.abs(found).max()) > 2.0:
        raise ArrayError(f"boxes: {np.abs(found).max():g} is no share of the picture, 0 … 1; for px write Labels(boxes=…) or Labels.from_xywh(…)")
    return found * np.array(picture_size(size) * 2, np.float64)


def _column(values: Sequence[Any] | NDArray[Any] | None, name: str) -> Any:
    if values is None:
        return None
    if isinstance(values, (str, bytes)) or not isinstance(values, (Sequence, np.ndarray)):
        raise ArrayError(f"{name}: expected one for each object in a list, not {type(values).__name__}; write [{values!r}]")
    if isinstance(values, np.ndarray) and values.ndim != 1:
        raise ArrayError(f"{name}: expected one for each object, not shape {values.shape}")
    plain = values.tolist() if isinstance(values, np.ndarray) else list(values)
    if any(not isinstance(each, (str, int, np.integer)) or isinstance(each, bool) for each in plain):
        odd = next(each for each in plain if not isinstance(each, (str, int, np.integer)) or isinstance(each, bool))
        raise ArrayError(f"{name}: names or whole numbers, not {odd!r}")
    return values if isinstance(values, np.ndarray) else plain


def _names(values: Sequence[str]) -> tuple[str, ...]:
    if isinstance(values, str) or any(not isinstance(each, str) for each in values):
        raise ArrayError(f"image_classes: expected a list of names, such as ['ash veil'], not {values!r}")
    return tuple(values)


def _polygon(rings: Any, place: int) -> Polygon | None:
    """One object's polygon from a ring, several rings, or parts."""
    if rings is None:
        return None
    if isinstance(rings, Part):
        rings = (rings,)
    if len(rings) and all(isinstance(each, Part) for each in rings):
        return tuple(rings)
    if isinstance(rings, np.ndarray) and rings.dtype != object:
        rings = [rings] if rings.ndim == 2 else list(rings)
    elif len(rings) and np.ndim(rings[0]) == 1:
        rings = [rings]
    found = []
    for ring in rings:
        try:
            points = np.asarray(ring, np.float64)
        except (TypeError, ValueError):
            points = np.zeros((0, 0))
        if points.ndim != 2 or points.shape[1] != 2 or len(points) < 3:
            raise ArrayError(f"polygons[{place}]: a ring is (P, 2) x, y with at least three points, not shape {points.shape}")
        if not np.isfinite(points).all():
            raise ArrayError(f"polygons[{place}]: there are values that are no numbers (NaN or infinite)")
        found.append(Part(points))
    if not found:
        raise ArrayError(f"polygons[{place}]: holds no ring; write None for an object without one")
    return tuple(found)


def _clipped(polygons: Sequence[Polygon | None], size: Size) -> list[Polygon | None]:
    found = iter(clipped([polygon for polygon in polygons if polygon is not None], size.rect))
    return [None if polygon is None else next(found) or None for polygon in polygons]


def _corners(corners: Any, place: int) -> NDArray[np.float64] | None:
    if corners is None:
        return None
    found = np.asarray(corners, np.float64)
    if found.shape != (4, 2) or not np.isfinite(found).all():
        raise ArrayError(f"oriented[{place}]: expected four corners (4, 2), x and y in px, not shape {found.shape}")
    return found


def _label_map(levels: Any) -> NDArray[Any]:
    if not isinstance(levels, np.ndarray) or levels.ndim not in (2, 3):
        raise ArrayError(f"label_map: expected an array (H, W), not {getattr(levels, 'shape', type(levels).__name__)}")
    return levels


def keypoints_each(all_labels: Iterable[Labels]) -> int:
    """The most keypoints that an object of any of the labels has."""
    return max((each.keypoints.shape[1] for each in all_labels if each.keypoints is not None), default=0)


def full_mask(mask: Mask | None, size: Size) -> NDArray[np.bool_] | None:
    """An instance mask over the whole picture, (H, W) bool."""
    if mask is None:
        return None
    whole = np.zeros((size.height, size.width), np.bool_)
    mask.mark(whole)
    return whole


def labels_from(objects: Objects, size: Size, classes: Sequence[str], **others: Any) -> Labels:
    """Objects of a picture of `size` as labels with class names. others: as for `Labels`."""
    parts: dict[str, Any] = {
        "boxes": objects.boxes.copy(),
        "classes": [classes[place] for place in objects.classes.tolist()],
        "ids": list(objects.ids),
    }
    if len(set(objects.ids)) < len(objects):
        del parts["ids"]
    alone = objects.oriented.only()
    if objects.keypoints.shape[1]:
        parts["keypoints"] = objects.keypoints.copy()
    if any(mask is not None for mask in objects.masks):
        parts["masks"] = [full_mask(mask, size) for mask in objects.masks]
    if len(objects.outlines.owners) and len(alone) < len(set(objects.outlines.owners.tolist())):
        parts["polygons"] = [None if place in alone else polygon for place, polygon in enumerate(objects.polygons)]
    if len(objects.oriented.owners):
        parts["oriented"] = [objects.oriented.of_object(place) for place in range(len(objects))]
    if objects.crowd.any():
        parts["crowd"] = objects.crowd.copy()
    return Labels(**{**parts, "outside": "keep", **others})
