"""Conditions of labels: how large objects are, how they lie, how crowded a picture is."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from varlen.model.geometry import Size
from varlen.model.objects import Objects
from varlen.shapes.polygons import rings_of


def objects_of(objects: Objects, size: Size) -> dict[str, float] | None:
    """Size, orientation and crowding of a picture's objects; None for a picture without any.

    size         geometric mean over objects of √(box area / picture area)
    orientation  mean over objects of the long axis' angle from level, folded to 0 (lying) … 90 (upright) degrees: by the second moments
                 of the outline's corners, the longer side of an oriented box, else atan2(height, width) of the box
    crowding     how many objects there are
    """
    boxes = objects.boxes
    sides = boxes[:, 2:] - boxes[:, :2]
    real = (sides > 0).all(axis=1) & ~objects.crowd
    if not real.any():
        return None
    share = np.sqrt(sides[real].prod(axis=1) / (size.width * size.height))
    polygons = objects.polygons
    angles = [_angle(objects, place, polygons[place], sides[place]) for place in np.flatnonzero(real).tolist()]
    return {
        "size": float(np.exp(np.log(share).mean())),
        "orientation": math.fsum(angles) / len(angles),
        "crowding": float(real.sum()),
    }


def _angle(objects: Objects, place: int, polygon: object, side: NDArray[np.float64]) -> float:
    """How steep one object's long axis is, 0 … 90 degrees."""
    turned = objects.oriented.of_object(place)
    if turned is not None:
        edges = np.diff(turned[:3], axis=0)
        x, y = edges[int(np.hypot(*edges.T).argmax())].tolist()
    elif polygon:
        points = np.concatenate(rings_of(polygon))  # type: ignore[arg-type]
        points = points - points.mean(axis=0)
        xx, yy, xy = float((points[:, 0] ** 2).sum()), float((points[:, 1] ** 2).sum()), float((points[:, 0] * points[:, 1]).sum())
        half = 0.5 * math.atan2(2.0 * xy, xx - yy)
        x, y = math.cos(half), math.sin(half)
    else:
        x, y = side.tolist()
    return math.degrees(math.atan2(abs(y), abs(x)))
