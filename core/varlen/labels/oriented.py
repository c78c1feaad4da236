"""Oriented boxes on their way: moved by their corners, and fitted again to what is left of their object.

While a picture is being worked on, an object that is nothing but an oriented box has the box as its outline, so that it is
clipped and counted like any outline. At the end its corners are set: as they were moved while the object is whole, else
the smallest box of the same direction around what is left. An object with an outline or a mask keeps its corners while
they still form a rectangle and the object is whole; else it gets the smallest rectangle around its shape.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from varlen.labels.outcomes import LabelState
from varlen.model.objects import Objects, OrientedBoxes, Outlines, Part
from varlen.pipeline.plan import Resample
from varlen.shapes.polygons import polygon_from_mask

Corners = NDArray[np.float64]
#: Corners this near to those of a rectangle, as a share of its diagonal, form one.
SQUARE = 1e-3


def moved_oriented(boxes: OrientedBoxes, run: Resample) -> OrientedBoxes:
    """The corners after a resample, wherever they come to lie."""
    if len(boxes.owners) == 0:
        return boxes
    flat = boxes.corners.reshape(-1, 2)
    corners = (run.points(flat) if run.bends else run.matrix.points(flat)).reshape(-1, 4, 2)
    moved = boxes.with_corners(corners)
    return moved.mirrored() if run.mirrors else moved


def settle_oriented(labels: LabelState) -> None:
    """Set the corners of all oriented boxes at the end of a plan, in place."""
    objects = labels.objects
    owners = objects.oriented.owners.tolist()
    if not owners:
        return
    corners, boxes, polygons = objects.oriented.corners.copy(), objects.boxes.copy(), list(objects.polygons)
    for number, place in enumerate(owners):
        alone, whole = bool(objects.oriented.alone[number]), labels.clipped[place] is None
        shape = _points(objects, place)
        if len(shape) >= 3:
            if alone and not whole and not _same(shape, corners[number]):
                corners[number] = around(shape, corners[number])
            elif not alone and not (whole and is_rectangle(corners[number])):
                corners[number] = smallest_around(shape, corners[number])
        if alone:
            polygons[place] = (Part(corners[number]),)
            if whole:
                boxes[place] = [*corners[number].min(axis=0), *corners[number].max(axis=0)]
    labels.objects = objects.replace(boxes=boxes, outlines=Outlines.of(polygons), oriented=objects.oriented.with_corners(corners))


def is_rectangle(corners: Corners) -> bool:
    """Whether four corners, in order, form a rectangle: the diagonals are equally long and share their middle."""
    first, second = corners[2] - corners[0], corners[3] - corners[1]
    slack = SQUARE * max(float(np.hypot(*first)), float(np.hypot(*second)), 1e-9)
    middle = corners[0] + corners[2] - corners[1] - corners[3]
    return abs(float(np.hypot(*first)) - float(np.hypot(*second))) <= slack and float(np.hypot(*middle)) <= slack


def around(points: Corners, corners: Corners) -> Corners:
    """The smallest rectangle around points (N, 2) whose front has the direction of the `corners`' front, in their order."""
    front = (corners[1] - corners[0]) + (corners[2] - corners[3])
    length = float(np.hypot(*front))
    along = front / length if length > 0 else np.array([1.0, 0.0])
    back = np.array([-along[1], along[0]])
    if float(back @ (corners[3] - corners[0] + corners[2] - corners[1])) < 0:
        back = -back
    x, y = points @ along, points @ back
    ends = np.array([[x.min(), y.min()], [x.max(), y.min()], [x.max(), y.max()], [x.min(), y.max()]])
    found: Corners = ends[:, :1] * along + ends[:, 1:] * back
    return found


def smallest_around(points: Corners, corners: Corners) -> Corners:
    """The rectangle of the smallest area around points (N, 2); its corners in the order that is nearest to that of `corners`."""
    import shapely

    found = shapely.get_coordinates(shapely.minimum_rotated_rectangle(shapely.multipoints(points)))[:4]
    if len(found) < 4:
        return corners
    turns = [np.roll(ring, -start, axis=0) for ring in (found, found[::-1]) for start in range(4)]
    way = np.sign(_turning(corners))
    # A rectangle fits at any scale; what counts is which corner is which, seen from its middle.
    wanted = corners - corners.mean(axis=0)
    fits = [ring for ring in turns if way == 0 or np.sign(_turning(ring)) == way] or turns
    return max(fits, key=lambda ring: float(((ring - ring.mean(axis=0)) * wanted).sum()))


def _turning(ring: Corners) -> float:
    following = np.roll(ring, -1, axis=0)
    return float((ring[:, 0] * following[:, 1] - following[:, 0] * ring[:, 1]).sum())


def _same(points: Corners, corners: Corners) -> bool:
    return points.shape == corners.shape and bool(np.allclose(np.sort(points, axis=0), np.sort(corners, axis=0), atol=1e-6))


def _points(objects: Objects, place: int) -> Corners:
    """All points of an object's shape."""
    mask = objects.masks[place]
    polygon = polygon_from_mask(mask) if mask is not None else objects.outlines.polygon(place)
    return np.concatenate([part.outline for part in polygon]) if polygon else np.zeros((0, 2))
