"""Areas of polygons and their parts inside a rectangle."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from varlen.geometry import Rect
from varlen.sample import Part, Polygon, Ring

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


def starts_of(rings: list[Ring]) -> NDArray[np.int64]:
    """Where each ring begins when they are laid end to end."""
    return np.cumsum([0] + [len(ring) for ring in rings[:-1]])


def bounds(polygon: Polygon) -> Rect:
    """The box around all parts."""
    points = np.concatenate([part.outline for part in polygon])
    low, high = points.min(axis=0), points.max(axis=0)
    return (float(low[0]), float(low[1]), float(high[0]), float(high[1]))


def clipped(polygons: list[Polygon], window: Rect) -> list[tuple[Polygon, float]]:
    """Each polygon inside `window`, and the share of its area that this is.

    One part may become several. Outlines that cross themselves are first taken apart.
    """
    import shapely  # loaded only when an outline crosses the frame

    owners = [place for place, polygon in enumerate(polygons) for _ in polygon]
    parts = [part for polygon in polygons for part in polygon]
    shapes = _shapes(parts)
    broken = ~shapely.is_valid(shapes)
    if broken.any():
        shapes[broken] = shapely.make_valid(shapes[broken])
    pieces = shapely.intersection(shapes, shapely.box(*window))
    before = np.bincount(owners, shapely.area(shapes), len(polygons))
    after = np.bincount(owners, shapely.area(pieces), len(polygons))
    found: list[list[Part]] = [[] for _ in polygons]
    for owner, piece in zip(owners, pieces, strict=True):
        found[owner] += [_part(part) for part in _polygons(piece) if part.area > SLIVER]
    share = np.divide(after, before, out=np.zeros(len(polygons)), where=before > 0.0)
    return [(tuple(kept), float(left)) for kept, left in zip(found, share, strict=True)]


def _shapes(parts: list[Part]) -> Any:
    """Shapely's polygons of many parts, made in one go where none has holes."""
    import shapely

    if any(part.holes for part in parts):
        return np.array([shapely.Polygon(part.outline, part.holes) for part in parts])
    owners = np.repeat(np.arange(len(parts)), [len(part.outline) for part in parts])
    return shapely.polygons(shapely.linearrings(np.concatenate([part.outline for part in parts]), indices=owners))


def _polygons(shape: Any) -> list[shapely.Polygon]:
    if shape.geom_type == "Polygon":
        return [] if shape.is_empty else [shape]
    return [piece for child in getattr(shape, "geoms", ()) for piece in _polygons(child)]


def _part(polygon: shapely.Polygon) -> Part:
    def ring(line: Any) -> NDArray[np.float64]:
        return np.array(line.coords, np.float64)[:-1]

    return Part(ring(polygon.exterior), tuple(ring(hole) for hole in polygon.interiors))
