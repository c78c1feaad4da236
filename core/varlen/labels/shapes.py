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


def clipped(polygon: Polygon, window: Rect) -> tuple[Polygon, float]:
    """The polygon inside `window`, and the share of its area that this is.

    One part may become several. Outlines that cross themselves are first taken apart.
    """
    import shapely  # loaded only when an outline crosses the frame

    frame = shapely.box(*window)
    parts: list[Part] = []
    before = after = 0.0
    for part in polygon:
        whole = shapely.Polygon(part.outline, part.holes)
        if not whole.is_valid:
            whole = shapely.make_valid(whole)
        inside = whole.intersection(frame)
        before += whole.area
        after += inside.area
        parts += [_part(piece) for piece in _polygons(inside) if piece.area > SLIVER]
    return tuple(parts), after / before if before > 0.0 else 0.0


def _polygons(shape: Any) -> list[shapely.Polygon]:
    if shape.geom_type == "Polygon":
        return [] if shape.is_empty else [shape]
    return [piece for child in getattr(shape, "geoms", ()) for piece in _polygons(child)]


def _part(polygon: shapely.Polygon) -> Part:
    def ring(line: Any) -> NDArray[np.float64]:
        return np.array(line.coords, np.float64)[:-1]

    return Part(ring(polygon.exterior), tuple(ring(hole) for hole in polygon.interiors))
