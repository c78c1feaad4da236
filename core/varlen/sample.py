"""Sample and Objects: what one image and its labels are.

All coordinates are continuous pixels (see `geometry`). Objects are kept as parallel arrays
and lists, one place per object, not as one Python object each.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from varlen.geometry import Size

Ring = NDArray[np.float64]


class Part(NamedTuple):
    """One connected part of a polygon: its outline and its holes, each (N, 2) float64, not closed."""

    outline: Ring
    holes: tuple[Ring, ...] = ()


Polygon = tuple[Part, ...]


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
    x_min, y_min, x_max, y_max; keypoints: (N, K, 3) float64 x, y, visibility (0 not
    labelled, 1 hidden, 2 visible), K may be 0; crowd: (N,) bool, a region of many; share:
    (N,) float64, how much of the object is still in the picture; growth: (N,) float64, how
    much larger the box is than the object because only its corners could be turned;
    attributes: fields that are passed through.
    """

    ids: tuple[str, ...]
    images: tuple[str, ...]
    classes: NDArray[np.int64]
    boxes: NDArray[np.float64]
    polygons: tuple[Polygon | None, ...]
    masks: tuple[Mask | None, ...]
    keypoints: NDArray[np.float64]
    crowd: NDArray[np.bool_]
    share: NDArray[np.float64]
    growth: NDArray[np.float64]
    attributes: tuple[dict[str, Any], ...]

    def __len__(self) -> int:
        return len(self.ids)

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
            tuple(self.polygons[n] for n in places),
            tuple(self.masks[n] for n in places),
            self.keypoints[index],
            self.crowd[index],
            self.share[index],
            self.growth[index],
            tuple(self.attributes[n] for n in places),
        )

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
) -> Objects:
    """Objects as they stand in a source image: whole, and with boxes that fit."""
    count = len(ids)
    points = np.array(keypoints, np.float64).reshape(count, -1, 3) if count else np.zeros((0, 0, 3))
    return Objects(
        tuple(ids),
        (image,) * count,
        np.array(classes, np.int64),
        np.array(boxes, np.float64).reshape(count, 4),
        tuple(polygons),
        tuple(masks),
        points,
        np.array(crowd, np.bool_),
        np.ones(count),
        np.ones(count),
        tuple(attributes),
    )


def joined(groups: Sequence[Objects]) -> Objects:
    """All objects of several pictures, in order."""
    groups = [group for group in groups if len(group)] or list(groups[:1])
    if len(groups) == 1:
        return groups[0]
    return Objects(
        sum((g.ids for g in groups), ()),
        sum((g.images for g in groups), ()),
        np.concatenate([g.classes for g in groups]),
        np.concatenate([g.boxes for g in groups]),
        sum((g.polygons for g in groups), ()),
        sum((g.masks for g in groups), ()),
        np.concatenate([g.keypoints for g in groups]),
        np.concatenate([g.crowd for g in groups]),
        np.concatenate([g.share for g in groups]),
        np.concatenate([g.growth for g in groups]),
        sum((g.attributes for g in groups), ()),
    )


@dataclass(frozen=True, slots=True)
class Sample:
    """One picture, (H, W, 3) uint8 RGB, and its objects."""

    pixels: NDArray[np.uint8]
    objects: Objects

    @property
    def size(self) -> Size:
        """Width and height in pixels."""
        return Size(self.pixels.shape[1], self.pixels.shape[0])
