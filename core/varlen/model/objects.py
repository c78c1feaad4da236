"""Sample and Objects: what one image and its labels are.

All coordinates are continuous pixels (see `geometry`). Objects are kept as parallel arrays
and lists, one place per object, not as one Python object each.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from varlen.model.geometry import Size

Ring = NDArray[np.float64]


class Part(NamedTuple):
    """One connected part of a polygon: its outline and its holes, each (N, 2) float64, not closed.

    >>> import numpy as np, varlen as v
    >>> ring = np.array([[0.0, 0.0], [40.0, 0.0], [40.0, 30.0], [0.0, 30.0]])
    >>> v.Labels(polygons=[v.Part(ring, holes=(ring * 0.5 + 5,))], classes=["moth"])
    Labels(1 objects: classes, polygons)
    """

    outline: Ring
    holes: tuple[Ring, ...] = ()


Polygon = tuple[Part, ...]


class Outlines(NamedTuple):
    """The polygons of many objects, ring after ring in one array of points.

    points: (P, 2) float64; starts: (R + 1,) int64, where each ring begins, and the end;
    owners: (R,) int64, never falling, the object of each ring; holes: (R,) bool, whether
    the ring is a hole of the outline before it.
    """

    points: NDArray[np.float64]
    starts: NDArray[np.int64]
    owners: NDArray[np.int64]
    holes: NDArray[np.bool_]

    @staticmethod
    def of(polygons: Sequence[Polygon | None]) -> Outlines:
        """The polygons of objects, in their order."""
        rings, owners, holes = [], [], []
        for place, polygon in enumerate(polygons):
            for part in polygon or ():
                rings += [part.outline, *part.holes]
                owners += [place] * (1 + len(part.holes))
                holes += [False] + [True] * len(part.holes)
        if not rings:
            return NO_OUTLINES
        starts = np.cumsum([0] + [len(ring) for ring in rings])
        return Outlines(np.concatenate(rings), starts, np.array(owners, np.int64), np.array(holes, np.bool_))

    def polygon(self, place: int) -> Polygon | None:
        """One object's polygon; its rings are views."""
        first, end = np.searchsorted(self.owners, (place, place + 1)).tolist()
        return self._polygon(first, end)

    def polygons(self, count: int) -> tuple[Polygon | None, ...]:
        """The polygons of `count` objects, None for those without."""
        bounds = np.searchsorted(self.owners, np.arange(count + 1)).tolist()
        return tuple(self._polygon(first, end) for first, end in itertools.pairwise(bounds))

    def _polygon(self, first: int, end: int) -> Polygon | None:
        if first == end:
            return None
        starts, holes = self.starts[first : end + 1].tolist(), self.holes[first:end].tolist()
        parts: list[Part] = []
        for n, hole in enumerate(holes):
            ring = self.points[starts[n] : starts[n + 1]]
            if hole and parts:
                parts[-1] = Part(parts[-1].outline, (*parts[-1].holes, ring))
            else:
                parts.append(Part(ring))
        return tuple(parts)

    def take(self, places: Sequence[int]) -> Outlines:
        """The outlines of the objects at `places`, in that order."""
        if len(self.owners) == 0:
            return self
        index = np.asarray(places, np.int64)
        first, end = np.searchsorted(self.owners, index), np.searchsorted(self.owners, index + 1)
        counts = end - first
        rings = np.repeat(first - np.cumsum(counts) + counts, counts) + np.arange(counts.sum())
        lengths = np.diff(self.starts)[rings]
        starts = np.concatenate([[0], np.cumsum(lengths)])
        points = np.repeat(self.starts[rings] - starts[:-1], lengths) + np.arange(starts[-1])
        return Outlines(self.points[points], starts, np.repeat(np.arange(len(index)), counts), self.holes[rings])

    def with_points(self, points: NDArray[np.float64]) -> Outlines:
        """The same rings elsewhere."""
        return self._replace(points=points)


NO_OUTLINES = Outlines(np.zeros((0, 2)), np.zeros(1, np.int64), np.zeros(0, np.int64), np.zeros(0, np.bool_))


class OrientedBoxes(NamedTuple):
    """The oriented boxes of those objects that have one.

    owners: (M,) int64, rising, the object of each; corners: (M, 4, 2) float64, in the source's order: the edge from the
    first to the second is the front, where a format knows one; alone: (M,) bool, whether the object has no finer shape, so
    that its outline is this box.
    """

    owners: NDArray[np.int64]
    corners: NDArray[np.float64]
    alone: NDArray[np.bool_]

    @staticmethod
    def of(corners: Sequence[NDArray[np.float64] | None], alone: Sequence[bool]) -> OrientedBoxes:
        """The boxes of objects in their order, None for those without."""
        owners = [place for place, each in enumerate(corners) if each is not None]
        if not owners:
            return NO_ORIENTED
        found = np.array([corners[place] for place in owners], np.float64).reshape(-1, 4, 2)
        return OrientedBoxes(np.array(owners, np.int64), found, np.array([alone[place] for place in owners], np.bool_))

    def of_object(self, place: int) -> NDArray[np.float64] | None:
        """One object's corners, (4, 2)."""
        found = int(np.searchsorted(self.owners, place))
        return self.corners[found] if found < len(self.owners) and self.owners[found] == place else None

    def only(self) -> set[int]:
        """The objects whose outline is nothing but their oriented box."""
        return set(self.owners[self.alone].tolist())

    def take(self, places: Sequence[int]) -> OrientedBoxes:
        """The boxes of the objects at `places`, in that order."""
        if len(self.owners) == 0:
            return self
        index = np.asarray(places, np.int64)
        found = np.minimum(np.searchsorted(self.owners, index), len(self.owners) - 1)
        there = self.owners[found] == index
        return OrientedBoxes(np.flatnonzero(there), self.corners[found[there]], self.alone[found[there]])

    def with_corners(self, corners: NDArray[np.float64]) -> OrientedBoxes:
        """The same boxes elsewhere."""
        return self._replace(corners=corners)

    def mirrored(self) -> OrientedBoxes:
        """Corners put in order after a mirror: the front stays the front, and the way round stays as it was."""
        return self._replace(corners=self.corners[:, [1, 0, 3, 2]])


NO_ORIENTED = OrientedBoxes(np.zeros(0, np.int64), np.zeros((0, 4, 2)), np.zeros(0, np.bool_))


class Mask(NamedTuple):
    """An instance mask: (h, w) uint8 of 0 and 1 whose first pixel is at column `left`, row `top`."""

    left: int
    top: int
    pixels: NDArray[np.uint8]

    @staticmethod
    def tight(frame: NDArray[np.uint8], left: int = 0, top: int = 0) -> Mask | None:
        """The mask cut to its ones; None when there are none."""
        rows, columns = np.flatnonzero(frame.any(axis=1)), np.flatnonzero(frame.any(axis=0))
        if rows.size == 0:
            return None
        y0, y1, x0, x1 = int(rows[0]), int(rows[-1]) + 1, int(columns[0]), int(columns[-1]) + 1
        return Mask(left + x0, top + y0, np.ascontiguousarray(frame[y0:y1, x0:x1]))

    def within(self, size: Size) -> Mask | None:
        """The part inside a picture of `size`."""
        x0, y0 = max(self.left, 0), max(self.top, 0)
        height, width = self.pixels.shape
        x1, y1 = min(self.left + width, size.width), min(self.top + height, size.height)
        if x0 >= x1 or y0 >= y1:
            return None
        return Mask.tight(self.pixels[y0 - self.top : y1 - self.top, x0 - self.left : x1 - self.left], x0, y0)

    def mark(self, frame: NDArray[np.bool_]) -> None:
        """Set its ones in a whole picture's mask (H, W), which it lies within."""
        height, width = self.pixels.shape
        frame[self.top : self.top + height, self.left : self.left + width] = self.pixels

    @property
    def box(self) -> tuple[float, float, float, float]:
        """The box around the mask's frame; tight when the mask is."""
        height, width = self.pixels.shape
        return (float(self.left), float(self.top), float(self.left + width), float(self.top + height))


@dataclass(frozen=True, slots=True)
class Objects:
    """The labelled things of one picture.

    ids: the object's name in its source file; images: the image it comes from (several in
    a mosaic); classes: (N,) int64 places in the dataset's class list; boxes: (N, 4) float64
    x_min, y_min, x_max, y_max; outlines: their polygons; keypoints: (N, K, 3) float64 x, y, visibility (0 not
    labelled, 1 hidden, 2 visible), K may be 0; crowd: (N,) bool, a region of many; share:
    (N,) float64, how much of the object is still in the picture; growth: (N,) float64, how
    much larger the box is than the object because only its corners could be turned;
    attributes: fields that are passed through; oriented: the oriented boxes of those that have one.
    """

    ids: tuple[str, ...]
    images: tuple[str, ...]
    classes: NDArray[np.int64]
    boxes: NDArray[np.float64]
    outlines: Outlines
    masks: tuple[Mask | None, ...]
    keypoints: NDArray[np.float64]
    crowd: NDArray[np.bool_]
    share: NDArray[np.float64]
    growth: NDArray[np.float64]
    attributes: tuple[dict[str, Any], ...]
    oriented: OrientedBoxes = NO_ORIENTED

    def __len__(self) -> int:
        return len(self.ids)

    @property
    def polygons(self) -> tuple[Polygon | None, ...]:
        """Each object's polygon, None for those without."""
        return self.outlines.polygons(len(self))

    def shaped(self) -> list[int]:
        """Places of the objects that can be cut out: with an outline or a mask, and a box with area."""
        outlined = set(self.outlines.owners.tolist())
        wide = ((self.boxes[:, 2] > self.boxes[:, 0]) & (self.boxes[:, 3] > self.boxes[:, 1]) & ~self.crowd).tolist()
        return [place for place in range(len(self)) if wide[place] and (place in outlined or self.masks[place] is not None)]

    def take(self, places: Sequence[int]) -> Objects:
        """Only the objects at `places`, in that order."""
        if len(places) == len(self) and list(places) == list(range(len(self))):
            return self
        index = np.array(places, np.int64)
        return Objects(
            tuple(self.ids[n] for n in places),
            tuple(self.images[n] for n in places),
            self.classes[index],
            self.boxes[index],
            self.outlines.take(places),
            tuple(self.masks[n] for n in places),
            self.keypoints[index],
            self.crowd[index],
            self.share[index],
            self.growth[index],
            tuple(self.attributes[n] for n in places),
            self.oriented.take(places),
        )

    def shifted(self, x: int, y: int) -> Objects:
        """All of them moved by whole pixels."""
        keypoints = self.keypoints + np.array([x, y, 0.0]) * (self.keypoints[:, :, 2:] > 0)
        masks = tuple(mask and mask._replace(left=mask.left + x, top=mask.top + y) for mask in self.masks)
        outlines = self.outlines.with_points(self.outlines.points + np.array([x, y], np.float64))
        oriented = self.oriented.with_corners(self.oriented.corners + np.array([x, y], np.float64))
        boxes = self.boxes + np.array([x, y, x, y], np.float64)
        return replace(self, boxes=boxes, outlines=outlines, masks=masks, keypoints=keypoints, oriented=oriented)

    def replace(self, **changes: Any) -> Objects:
        """A copy with other values in some places."""
        return replace(self, **changes)


def make_objects(
    ids: Sequence[str],
    image: str,
    classes: Sequence[int],
    boxes: Sequence[Sequence[float]],
    polygons: Sequence[Polygon | None],
    masks: Sequence[Mask | None],
    keypoints: Sequence[Sequence[Sequence[float]]] | NDArray[np.float64],
    crowd: Sequence[bool],
    attributes: Sequence[dict[str, Any]],
    oriented: Sequence[NDArray[np.float64] | None] = (),
) -> Objects:
    """Objects as they stand in a source image: whole, and with boxes that fit.

    oriented: corners of oriented boxes, None or nothing where there are none; an object without any other shape gets
    them as its outline too.
    """
    count = len(ids)
    alone = [each is not None and not polygons[place] and masks[place] is None for place, each in enumerate(oriented)]
    if any(alone):
        polygons = [(Part(np.array(oriented[n], np.float64)),) if n < len(alone) and alone[n] else polygon for n, polygon in enumerate(polygons)]
    points = np.array(keypoints, np.float64).reshape(count, -1, 3) if count else np.zeros((0, 0, 3))
    return Objects(
        tuple(ids),
        (image,) * count,
        np.array(classes, np.int64),
        np.array(boxes, np.float64).reshape(count, 4),
        Outlines.of(polygons),
        tuple(masks),
        points,
        np.array(crowd, np.bool_),
        np.ones(count),
        np.ones(count),
        tuple(attributes),
        OrientedBoxes.of(oriented, alone),
    )


def join_objects(groups: Sequence[Objects]) -> Objects:
    """All objects of several pictures, in order."""
    groups = [group for group in groups if len(group)] or list(groups[:1])
    if len(groups) == 1:
        return groups[0]
    return Objects(
        sum((g.ids for g in groups), ()),
        sum((g.images for g in groups), ()),
        np.concatenate([g.classes for g in groups]),
        np.concatenate([g.boxes for g in groups]),
        _joined_outlines(groups),
        sum((g.masks for g in groups), ()),
        np.concatenate([g.keypoints for g in groups]),
        np.concatenate([g.crowd for g in groups]),
        np.concatenate([g.share for g in groups]),
        np.concatenate([g.growth for g in groups]),
        sum((g.attributes for g in groups), ()),
        _joined_oriented(groups),
    )


def _joined_oriented(groups: Sequence[Objects]) -> OrientedBoxes:
    if not any(len(g.oriented.owners) for g in groups):
        return NO_ORIENTED
    starts = np.cumsum([0] + [len(g) for g in groups])
    return OrientedBoxes(
        np.concatenate([g.oriented.owners + start for g, start in zip(groups, starts, strict=False)]),
        np.concatenate([g.oriented.corners for g in groups]),
        np.concatenate([g.oriented.alone for g in groups]),
    )


def _joined_outlines(groups: Sequence[Objects]) -> Outlines:
    points = np.cumsum([0] + [len(g.outlines.points) for g in groups])
    owners = np.cumsum([0] + [len(g) for g in groups])
    return Outlines(
        np.concatenate([g.outlines.points for g in groups]),
        np.concatenate([g.outlines.starts[:-1] + start for g, start in zip(groups, points, strict=False)] + [points[-1:]]),
        np.concatenate([g.outlines.owners + start for g, start in zip(groups, owners, strict=False)]),
        np.concatenate([g.outlines.holes for g in groups]),
    )


@dataclass(frozen=True, slots=True)
class Sample:
    """One picture and all that is known of it.

    pixels: (H, W, 3) uint8 RGB, or (H, W, 1) after a step that makes it gray; label_map:
    (H, W) uint8, the class of every pixel, None where the dataset has none; classes:
    image-level classes and how much of the picture stands for each, 0 … 1.
    """

    pixels: NDArray[np.uint8]
    objects: Objects
    label_map: NDArray[np.uint8] | None = None
    classes: dict[str, float] = field(default_factory=dict)

    @property
    def size(self) -> Size:
        """Width and height in pixels."""
        return Size(self.pixels.shape[1], self.pixels.shape[0])
