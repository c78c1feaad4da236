"""Polygons to masks and masks to polygons, with holes and several parts."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.outlines import fill_outline, trace_outlines
from varlen.model.objects import Mask, Part, Polygon, Ring
from varlen.shapes.polygons import bounds, rings_of


def mask_from_polygon(polygon: Polygon) -> Mask | None:
    """The pixels whose centres lie inside; None when there are none. Parts are united, holes left out."""
    x0, y0, x1, y1 = bounds(polygon)
    left, top = math.floor(x0), math.floor(y0)
    shape = (max(math.ceil(y1) - top, 1), max(math.ceil(x1) - left, 1))
    frame = np.zeros(shape, np.uint8)
    for part in polygon:
        frame |= fill_outline(rings_of((part,)), left, top, shape)
    return Mask.tight(frame, left, top)


def polygon_from_mask(mask: Mask) -> Polygon:
    """Outlines along the borders of the pixels: filled again they give exactly the mask."""
    corner = np.array([mask.left, mask.top], np.float64)
    rings = [ring + corner for each in trace_outlines(mask.pixels) for ring in _simple(each)]
    outer = [(ring, abs(area)) for ring in rings if (area := _turning(ring)) > 0]
    holes: list[list[Ring]] = [[] for _ in outer]
    for ring in rings:
        if _turning(ring) < 0:
            around = [(area, place) for place, (outline, area) in enumerate(outer) if _contains(outline, ring)]
            holes[min(around)[1]].append(ring)
    return tuple(Part(outline, tuple(inside)) for (outline, _), inside in zip(outer, holes, strict=True))


def _simple(ring: NDArray[np.int64]) -> list[NDArray[np.int64]]:
    """A ring (N, 2) that touches itself at corners taken apart into rings that don't."""
    corners: list[tuple[int, int]] = list(zip(*ring.T.tolist(), strict=True))
    if len(set(corners)) == len(corners):
        return [ring]
    way: list[tuple[int, int]] = []
    places: dict[tuple[int, int], int] = {}
    loops = []
    for corner in corners:
        if corner in places:
            first = places[corner]
            loops.append(way[first:])
            for passed in way[first + 1 :]:
                del places[passed]
            del way[first + 1 :]
        else:
            places[corner] = len(way)
            way.append(corner)
    return [np.array(loop) for loop in (*loops, way)]


def _turning(ring: Ring) -> float:
    """Twice the area, positive for a ring that has the mask inside."""
    x, y = ring[:, 0], ring[:, 1]
    return float(x @ np.roll(y, -1) - np.roll(x, -1) @ y)


def _contains(outline: Ring, hole: Ring) -> bool:
    """Whether a hole lies inside an outline: whether the pixel above its topmost, leftmost corner does."""
    top = hole[np.lexsort((hole[:, 0], hole[:, 1]))[0]]
    x, y = top[0] + 0.5, top[1] - 0.5
    ends = np.roll(outline, -1, axis=0)
    across = (outline[:, 1] > y) != (ends[:, 1] > y)
    return bool(np.count_nonzero(across & (outline[:, 0] < x)) % 2)
