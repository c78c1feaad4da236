"""What happens to labels when part of the picture is covered.

A painted area hides objects: how much of each is hidden counts toward the keep rule, their
shapes stay as they are (the object is still there, behind it), and keypoints under it become
hidden. An object laid over others takes its place from them: their masks and outlines lose
what it covers, and their boxes are fitted to what is left.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.labels.keep_rule import COVERED, cover_reason, lost, touched
from varlen.labels.outcomes import LabelState
from varlen.labels.transform import mark_small
from varlen.model.objects import Mask, Objects, Outlines, Part, Polygon
from varlen.pipeline.reading import LabelRules
from varlen.shapes.polygons import bounds, combined, mask_from_polygon, polygon_from_mask, shapes_of


def hide_under_areas(labels: LabelState, areas: tuple[tuple[int, int, int, int], ...], step: str, rules: LabelRules) -> None:
    """Paint over whole-pixel areas, in place."""
    import shapely

    if len(labels.objects) == 0:
        return
    hidden = shapely.union_all([shapely.box(*area) for area in areas])
    objects = _hide_keypoints(labels.objects, hidden)
    visible = [1.0 - _hidden_share(objects, place, hidden, areas) for place in range(len(objects))]
    _settle(labels, objects, visible, step, rules)


def occlude(labels: LabelState, guest: Objects, step: str, rules: LabelRules) -> None:
    """Lay the one object of `guest` over the others, in place."""
    import shapely

    objects = labels.objects
    if len(objects) == 0:
        return
    polygon = object_polygon(guest, 0)
    hidden = shapely.union_all(shapes_of(polygon))
    stamp = mask_from_polygon(polygon)
    objects = _hide_keypoints(objects, hidden)
    boxes, polygons, masks = objects.boxes.copy(), list(objects.polygons), list(objects.masks)
    visible = [1.0] * len(objects)
    for place in range(len(objects)):
        before, outline = masks[place], polygons[place]
        if before is not None:
            masks[place] = after = _without(before, stamp)
            visible[place] = _ones(after.pixels) / max(_ones(before.pixels), 1) if after else 0.0
            if after is not None and after.box != before.box:
                boxes[place] = after.box
        else:
            visible[place] = 1.0 - _hidden_share(objects, place, hidden, ())
        if outline and visible[place] < 1.0:
            polygons[place] = left = combined([outline], hidden, "difference")[0]
            if left and before is None:
                boxes[place] = bounds(left)
    _settle(labels, objects.replace(boxes=boxes, outlines=Outlines.of(polygons), masks=tuple(masks)), visible, step, rules)


def object_polygon(objects: Objects, place: int) -> Polygon:
    """An object's shape as a polygon: its mask's, its outline's, or its box's."""
    mask = objects.masks[place]
    if mask is not None:
        return polygon_from_mask(mask)
    outline = objects.outlines.polygon(place)
    if outline is not None:
        return outline
    x0, y0, x1, y1 = objects.boxes[place].tolist()
    return (Part(np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]])),)


def object_opacity(objects: Objects, window: tuple[int, int, int, int]) -> tuple[NDArray[np.uint8], int, int]:
    """How far the one object hides each pixel of `window`, 0 … 255, and the window's corner; outlines have smooth borders."""
    x0, y0, x1, y1 = window
    found = np.zeros((y1 - y0, x1 - x0), np.uint8)
    mask = objects.masks[0]
    if mask is not None:
        rows, columns = mask.pixels.shape
        found[mask.top - y0 : mask.top - y0 + rows, mask.left - x0 : mask.left - x0 + columns] = mask.pixels * np.uint8(255)
        return found, x0, y0
    # Four by four points in every pixel.
    fine = mask_from_polygon(tuple(Part(*_finer(part, x0, y0)) for part in object_polygon(objects, 0)))
    if fine is not None:
        whole = np.zeros((4 * (y1 - y0), 4 * (x1 - x0)), np.uint8)
        rows, columns = fine.pixels.shape
        whole[fine.top : fine.top + rows, fine.left : fine.left + columns] = fine.pixels
        counts = whole.reshape(y1 - y0, 4, x1 - x0, 4).sum(axis=(1, 3))
        found = (counts * 255 // 16).astype(np.uint8)
    return found, x0, y0


def _finer(part: Part, x0: int, y0: int) -> Part:
    rings = [(ring - [x0, y0]) * 4.0 for ring in (part.outline, *part.holes)]
    return Part(rings[0], tuple(rings[1:]))


def _hidden_share(objects: Objects, place: int, hidden: Any, areas: tuple[tuple[int, int, int, int], ...]) -> float:
    """Share of one object under `hidden`; `areas` when that is made of whole pixels."""
    import shapely

    x0, y0, x1, y1 = hidden.bounds
    box = objects.boxes[place]
    if box[0] >= x1 or box[1] >= y1 or box[2] <= x0 or box[3] <= y0:
        return 0.0
    mask = objects.masks[place]
    if mask is not None and areas:
        under = np.zeros(mask.pixels.shape, np.uint8)
        for left, top, right, bottom in areas:
            under[max(top - mask.top, 0) : max(bottom - mask.top, 0), max(left - mask.left, 0) : max(right - mask.left, 0)] = 1
        return _ones(under & mask.pixels) / max(_ones(mask.pixels), 1)
    shape = shapely.union_all(shapes_of(object_polygon(objects, place)))
    whole = shapely.area(shape)
    return float(shapely.area(shapely.intersection(shape, hidden)) / whole) if whole > 0.0 else 0.0


def _ones(pixels: NDArray[np.uint8]) -> int:
    return int(np.count_nonzero(pixels))


def _without(mask: Mask, stamp: Mask | None) -> Mask | None:
    """A mask less the pixels of another."""
    if stamp is None:
        return mask
    height, width = stamp.pixels.shape
    left, top = max(mask.left, stamp.left), max(mask.top, stamp.top)
    right, bottom = min(mask.left + mask.pixels.shape[1], stamp.left + width), min(mask.top + mask.pixels.shape[0], stamp.top + height)
    if left >= right or top >= bottom:
        return mask
    pixels = mask.pixels.copy()
    under = stamp.pixels[top - stamp.top : bottom - stamp.top, left - stamp.left : right - stamp.left]
    pixels[top - mask.top : bottom - mask.top, left - mask.left : right - mask.left] &= 1 - under
    return Mask.tight(pixels, mask.left, mask.top)


def _hide_keypoints(objects: Objects, hidden: Any) -> Objects:
    import shapely

    points = objects.keypoints
    if points.size == 0:
        return objects
    under = shapely.contains_xy(hidden, points[:, :, 0].ravel(), points[:, :, 1].ravel()).reshape(points.shape[:2])
    if not under.any():
        return objects
    points = points.copy()
    points[:, :, 2] = np.where(under & (points[:, :, 2] == 2), 1, points[:, :, 2])
    return objects.replace(keypoints=points)


def _settle(labels: LabelState, after: Objects, visible: list[float], step: str, rules: LabelRules) -> None:
    """Keep, mark as partly covered, or drop."""
    share = np.array(visible)
    after = after.replace(share=after.share * share)
    gone, hidden = lost(share, after.share, after.crowd, rules).tolist(), touched(share).tolist()
    for place in range(len(after)):
        if gone[place]:
            labels.drop(place, cover_reason(visible[place], rules), step, float(after.share[place]))
        elif hidden[place]:
            labels.clipped[place] = (step, COVERED)
    kept = [place for place in range(len(after)) if not gone[place]]
    labels.keep(after, kept)
    mark_small(labels, rules, None, step)
