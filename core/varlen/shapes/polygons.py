"""Areas of polygons and their parts inside a rectangle."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.outlines import clipped_ring, fill_outline, ring_area, trace_outlines
from varlen.model.geometry import Rect, Size
from varlen.model.objects import Mask, Objects, Part, Polygon, Ring

if TYPE_CHECKING:
    import shapely


#: Slivers below this area in square pixels are not worth a part of their own.
SLIVER = 1e-6


def ring_areas(points: NDArray[np.float64], starts: NDArray[np.int64]) -> NDArray[np.float64]:
    """Areas enclosed by many rings at once (shoelace), square pixels.

    points: (P, 2) float64, ring after ring; starts: (R,) where each ring begins.
    """
    following = np.arange(1, len(points) + 1)
    following[np.append(starts[1:], len(points)) - 1] = starts
    cross = points[:, 0] * points[following, 1] - points[following, 0] * points[:, 1]
    return np.abs(np.add.reduceat(cross, starts)) / 2.0


def rings_of(polygon: Polygon) -> list[Ring]:
    """Outlines and holes of all parts, in turn."""
    return [ring for part in polygon for ring in (part.outline, *part.holes)]


def bounds(polygon: Polygon) -> Rect:
    """The box around all parts."""
    points = np.concatenate([part.outline for part in polygon])
    low, high = points.min(axis=0), points.max(axis=0)
    return (float(low[0]), float(low[1]), float(high[0]), float(high[1]))


def clipped(polygons: list[Polygon], window: Rect) -> list[Polygon]:
    """Each polygon inside `window`. One part may become several; outlines that cross themselves are first taken apart."""
    found = [_clipped_plainly(polygon, window) for polygon in polygons]
    hard = [place for place, polygon in enumerate(found) if polygon is None]
    if hard:
        import shapely  # loaded only when it is needed

        cut = combined([polygons[place] for place in hard], shapely.box(*window), "intersection")
        for place, polygon in zip(hard, cut, strict=True):
            found[place] = polygon
    return [polygon or () for polygon in found]


def _clipped_plainly(polygon: Polygon, window: Rect) -> Polygon | None:
    """The polygon inside `window` where every part stays one part without holes; None for others."""
    kept = []
    for part in polygon:
        ring = None if part.holes else clipped_ring(part.outline, window)
        if ring is None:
            return None
        if ring_area(ring) > SLIVER:
            kept.append(Part(ring))
    return tuple(kept)


def combined(polygons: list[Polygon], other: Any, how: Literal["intersection", "difference"]) -> list[Polygon]:
    """Each polygon's intersection with, or difference to, a shape of Shapely's."""
    import shapely

    owners = [place for place, polygon in enumerate(polygons) for _ in polygon]
    shapes = shapes_of([part for polygon in polygons for part in polygon])
    pieces = getattr(shapely, how)(shapes, other)
    found: list[list[Part]] = [[] for _ in polygons]
    for owner, piece in zip(owners, pieces, strict=True):
        found[owner] += [_part(part) for part in _polygons(piece) if part.area > SLIVER]
    return [tuple(kept) for kept in found]


def shapes_of(parts: Sequence[Part]) -> Any:
    """Shapely's polygons of many parts, mended where they cross themselves."""
    import shapely

    if any(part.holes for part in parts):
        shapes = np.array([shapely.Polygon(part.outline, part.holes) for part in parts])
    else:
        owners = np.repeat(np.arange(len(parts)), [len(part.outline) for part in parts])
        shapes = shapely.polygons(shapely.linearrings(np.concatenate([part.outline for part in parts]), indices=owners))
    broken = ~shapely.is_valid(shapes)
    if broken.any():
        shapes[broken] = shapely.make_valid(shapes[broken])
    return shapes


def _polygons(shape: Any) -> list[shapely.Polygon]:
    if shape.geom_type == "Polygon":
        return [] if shape.is_empty else [shape]
    return [piece for child in getattr(shape, "geoms", ()) for piece in _polygons(child)]


def _part(polygon: shapely.Polygon) -> Part:
    def ring(line: Any) -> NDArray[np.float64]:
        return np.array(line.coords, np.float64)[:-1]

    return Part(ring(polygon.exterior), tuple(ring(hole) for hole in polygon.interiors))


def mask_from_polygon(polygon: Polygon) -> Mask | None:
    """The pixels whose centres lie inside; None when there are none. Parts are united, holes left out."""
    x0, y0, x1, y1 = bounds(polygon)
    left, top = math.floor(x0), math.floor(y0)
    shape = (max(math.ceil(y1) - top, 1), max(math.ceil(x1) - left, 1))
    frame = np.zeros(shape, np.uint8)
    for part in polygon:
        frame |= fill_outline(rings_of((part,)), left, top, shape)
    return Mask.tight(frame, left, top)


def all_masks(objects: Objects, size: Size, outlines: bool) -> NDArray[np.bool_]:
    """The masks of all objects over a picture of `size`, (N, H, W) bool; nothing set for an object without. outlines: make those of outlines too."""
    found = np.zeros((len(objects), size.height, size.width), np.bool_)
    for place, own in enumerate(objects.masks):
        mask = object_mask(objects, place) if outlines else own
        if mask is not None:
            mask.mark(found[place])
    return found


def object_mask(objects: Objects, place: int) -> Mask | None:
    """An object's pixels: its mask, or its outline filled; None for a box alone."""
    mask = objects.masks[place]
    if mask is not None:
        return mask
    polygon = objects.outlines.polygon(place)
    return mask_from_polygon(polygon) if polygon else None


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


def ring_list(polygon: Polygon | None) -> list[NDArray[np.float64]] | None:
    """A polygon's rings, outlines and holes in turn, each (P, 2); None without."""
    return None if polygon is None else rings_of(polygon)


def object_area(objects: Objects, place: int) -> float:
    """The area of an object in px²: of its mask, else of its outline less the holes, else of its box."""
    mask, polygon = objects.masks[place], objects.outlines.polygon(place)
    if mask is not None:
        return float(np.count_nonzero(mask.pixels))
    if polygon is not None:
        return sum(abs(ring_area(part.outline)) - sum(abs(ring_area(hole)) for hole in part.holes) for part in polygon)
    x0, y0, x1, y1 = objects.boxes[place].tolist()
    return float((x1 - x0) * (y1 - y0))
