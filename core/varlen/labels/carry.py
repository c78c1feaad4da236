"""Carrying labels through a resample: move, fit, clip, keep or drop.

Order for each object: its polygon or mask is moved and clipped, and the box is fitted to
what is left; without either the box itself is moved by the pipeline's `box_fit` rule. A box
that stays upright and whole is moved exactly. Objects of which less than `keep_share` is
left are dropped, with the step to blame.
"""

from __future__ import annotations

import itertools
import math

import numpy as np
from numpy.typing import NDArray

from varlen.geometry import Matrix, Rect, area, clip_polygon
from varlen.labels.fates import SOURCE, Labels
from varlen.labels.shapes import bounds, clipped, rings_of, starts_of
from varlen.pipeline import LabelRules
from varlen.plan import Resample
from varlen.sample import Mask, Objects, Part, Polygon

Pairs = NDArray[np.int64]


def start(objects: Objects, rules: LabelRules) -> Labels:
    """The labels of a source picture, before anything happens to them."""
    labels = Labels.of(objects)
    _note_small(labels, rules, None)
    return labels


def carry(labels: Labels, run: Resample, rules: LabelRules, swap: Pairs) -> None:
    """Take `labels` through one resample, in place.

    swap: (K,) for each keypoint the one it becomes in a mirror image.
    """
    objects = labels.objects
    if len(objects) == 0 or _nothing(run):
        return
    x0, y0, x1, y1 = run.target
    window = (float(x0), float(y0), float(x1), float(y1))
    boxes, whole = _moved_boxes(objects, run.matrix, rules)
    growth = objects.growth.copy()
    share = np.ones(len(objects))
    polygons, masks = list(objects.polygons), list(objects.masks)
    moved, fits = _moved_polygons(objects, run.matrix)
    cuts: dict[int, tuple[Polygon, float]] = {place: ((), 0.0) for place, fitted in fits.items() if _outside(fitted, window)}
    crossing = [place for place, fitted in fits.items() if place not in cuts and masks[place] is None and not _inside(fitted, window)]
    cuts |= dict(zip(crossing, clipped([moved[place] or () for place in crossing], window), strict=True)) if crossing else {}
    for place in range(len(objects)):
        mask, polygon = masks[place], moved[place]
        if mask is not None:
            masks[place], share[place] = _moved_mask(mask, run.matrix, window)
            if (cut := masks[place]) is not None:
                boxes[place] = cut.box
        elif polygon is not None:
            if place in cuts:
                polygon, share[place] = cuts[place]
                boxes[place] = bounds(polygon) if polygon else 0.0
            elif not run.matrix.upright():
                boxes[place] = fits[place]
            polygons[place] = polygon
        else:
            growth[place] *= whole[place]
            boxes[place], share[place] = _clipped_box(boxes[place], window)
    _settle(labels, run, rules, objects.replace(
        boxes=_clip(boxes, window), polygons=tuple(polygons), masks=tuple(masks), growth=growth,
        keypoints=_moved_keypoints(objects.keypoints, run.matrix, window, swap), share=objects.share * share,
    ), share)  # fmt: skip


def finish(labels: Labels, rules: LabelRules) -> None:
    """Drop the objects that ended too small."""
    kept = []
    for place, step in enumerate(labels.small):
        if step is None:
            kept.append(place)
        else:
            labels.drop(place, f"shorter side under {rules.keep_side_px:g} px", step, float(labels.objects.share[place]))
    labels.keep(labels.objects, kept)


def _nothing(run: Resample) -> bool:
    return run.window is None and run.size == run.before and run.matrix == Matrix()


def _settle(labels: Labels, run: Resample, rules: LabelRules, after: Objects, share: NDArray[np.float64]) -> None:
    """Sort objects into whole, clipped and dropped."""
    kept = []
    for place in range(len(after)):
        left = float(after.share[place])
        box = labels.objects.boxes[place]
        if share[place] >= 1.0 - 1e-9:
            kept.append(place)
        elif share[place] <= 0.0 or left < rules.keep_share:
            reason = "outside the frame" if share[place] <= 0.0 else f"less than {rules.keep_share * 100:g} % left"
            prior = float(labels.objects.share[place])
            limit = max(rules.keep_share, 1e-9)
            labels.drop(place, reason, _to_blame(run, box, limit / prior if prior > 0.0 else 1.0), left)
        else:
            labels.clipped[place] = _to_blame(run, box, 1.0 - 1e-9)
            kept.append(place)
    labels.keep(after, kept)
    _note_small(labels, rules, run)


def _to_blame(run: Resample, box: NDArray[np.float64], limit: float) -> str:
    """The step from which on less than `limit` of the box is left; else the one that took most."""
    last = run.members[-1]
    if len(run.members) == 1:
        return last.step
    x0, y0, x1, y1 = run.target
    shares = [_quad_share(member.matrix, box, member.size.rect) for member in run.members[:-1]]
    shares.append(_quad_share(last.matrix, box, (float(x0), float(y0), float(x1), float(y1))))
    if shares[-1] < limit:
        place = len(shares) - 1
        while place > 0 and shares[place - 1] < limit:
            place -= 1
        return run.members[place].step
    drops = [before - after for before, after in zip([1.0, *shares], shares, strict=False)]
    return run.members[drops.index(max(drops))].step


def _quad_share(matrix: Matrix, box: NDArray[np.float64], window: Rect) -> float:
    quad = matrix.quad((float(box[0]), float(box[1]), float(box[2]), float(box[3])))
    whole = area(quad)
    return area(clip_polygon(quad, window)) / whole if whole > 0.0 else 0.0


def _note_small(labels: Labels, rules: LabelRules, run: Resample | None) -> None:
    """Remember which objects are under the size limit now, and since which step."""
    boxes = labels.objects.boxes
    under = np.minimum(boxes[:, 2] - boxes[:, 0], boxes[:, 3] - boxes[:, 1]) < rules.keep_side_px
    for place, small in enumerate(under.tolist()):
        if not small:
            labels.small[place] = None
        elif labels.small[place] is None:
            labels.small[place] = _shrinker(run)


def _shrinker(run: Resample | None) -> str:
    """The step of a run that shrinks most."""
    if run is None or not run.members:
        return SOURCE
    sizes = [1.0, *(math.sqrt(abs(member.matrix.determinant)) for member in run.members)]
    ratios = [after / before for before, after in itertools.pairwise(sizes)]
    return run.members[ratios.index(min(ratios))].step


def _moved_boxes(objects: Objects, matrix: Matrix, rules: LabelRules) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Boxes after the move, before clipping, and how much larger than the object each became."""
    boxes = objects.boxes
    if matrix.upright():
        across, down = matrix.a * boxes[:, 0::2] + matrix.c, matrix.e * boxes[:, 1::2] + matrix.f
        ends = (across.min(axis=1), down.min(axis=1), across.max(axis=1), down.max(axis=1))
        return np.stack(ends, 1), np.ones(len(boxes))
    if rules.box_fit == "ellipse" and matrix.affine:
        half = (boxes[:, 2:] - boxes[:, :2]) / 2
        centre = matrix.points((boxes[:, 2:] + boxes[:, :2]) / 2)
        # The extent of an ellipse with half axes p, q under a linear map: per axis √((m·p)² + (n·q)²).
        reach = np.stack([np.hypot(matrix.a * half[:, 0], matrix.b * half[:, 1]), np.hypot(matrix.d * half[:, 0], matrix.e * half[:, 1])], 1)
        return np.concatenate([centre - reach, centre + reach], 1), np.ones(len(boxes))
    corners = boxes[:, [0, 1, 2, 1, 2, 3, 0, 3]].reshape(-1, 2)
    quads = matrix.points(corners).reshape(-1, 4, 2)
    moved = np.concatenate([quads.min(axis=1), quads.max(axis=1)], 1)
    # The area of a quadrangle is half the cross product of its diagonals.
    one, two = quads[:, 2] - quads[:, 0], quads[:, 3] - quads[:, 1]
    exact = np.abs(one[:, 0] * two[:, 1] - one[:, 1] * two[:, 0]) / 2
    fitted = (moved[:, 2] - moved[:, 0]) * (moved[:, 3] - moved[:, 1])
    return moved, np.divide(fitted, exact, out=np.ones(len(boxes)), where=exact > 0)


def _moved_polygons(objects: Objects, matrix: Matrix) -> tuple[list[Polygon | None], dict[int, Rect]]:
    """All outlines of all objects through the matrix at once, and the box around each object's."""
    owners = [place for place, polygon in enumerate(objects.polygons) if polygon]
    groups = [rings_of(objects.polygons[place] or ()) for place in owners]
    rings = [ring for group in groups for ring in group]
    if not rings:
        return list(objects.polygons), {}
    points = matrix.points(np.concatenate(rings))
    starts = starts_of(rings)
    ends = [*starts[1:].tolist(), len(points)]
    pieces = iter([points[begin:end] for begin, end in zip(starts.tolist(), ends, strict=True)])
    moved: list[Polygon | None] = [None] * len(objects)
    for place in owners:
        moved[place] = tuple(Part(next(pieces), tuple(next(pieces) for _ in part.holes)) for part in objects.polygons[place] or ())
    firsts = starts[np.cumsum([0] + [len(group) for group in groups[:-1]])]
    boxes = np.concatenate([np.minimum.reduceat(points, firsts), np.maximum.reduceat(points, firsts)], 1).tolist()
    return moved, {place: (x0, y0, x1, y1) for place, (x0, y0, x1, y1) in zip(owners, boxes, strict=True)}


def _moved_mask(mask: Mask, matrix: Matrix, window: Rect) -> tuple[Mask | None, float]:
    """The mask after the move, cut to the window, and the share of its area that is left."""
    from varlen.raster.masks import warp_mask

    quad = matrix.quad(mask.box)
    fitted = (min(p[0] for p in quad), min(p[1] for p in quad), max(p[0] for p in quad), max(p[1] for p in quad))
    x0, y0 = max(math.floor(fitted[0]), int(window[0])), max(math.floor(fitted[1]), int(window[1]))
    x1, y1 = min(math.ceil(fitted[2]), int(window[2])), min(math.ceil(fitted[3]), int(window[3]))
    if x0 >= x1 or y0 >= y1:
        return None, 0.0
    pixels, (left, top, right, bottom), count = warp_mask(mask.pixels, mask.left, mask.top, matrix.inverse(), (x0, y0, x1, y1))
    if count == 0:
        return None, 0.0
    moved = Mask(x0 + left, y0 + top, np.ascontiguousarray(pixels[top:bottom, left:right]))
    if _inside(fitted, window) or not _touches(moved.box, window):
        return moved, 1.0
    before = int(np.count_nonzero(mask.pixels)) * abs(matrix.determinant)
    return moved, min(count / before, 1.0) if before > 0 else 0.0


def _touches(box: Rect, window: Rect) -> bool:
    return box[0] <= window[0] or box[1] <= window[1] or box[2] >= window[2] or box[3] >= window[3]


def _outside(box: Rect, window: Rect) -> bool:
    return box[0] >= window[2] or box[1] >= window[3] or box[2] <= window[0] or box[3] <= window[1]


def _inside(box: Rect, window: Rect) -> bool:
    return box[0] >= window[0] and box[1] >= window[1] and box[2] <= window[2] and box[3] <= window[3]


def _clip(boxes: NDArray[np.float64], window: Rect) -> NDArray[np.float64]:
    x0, y0, x1, y1 = window
    return np.minimum(np.maximum(boxes, [x0, y0, x0, y0]), [x1, y1, x1, y1])


def _clipped_box(box: NDArray[np.float64], window: Rect) -> tuple[NDArray[np.float64], float]:
    inside = _clip(box[None, :], window)[0]
    before = (box[2] - box[0]) * (box[3] - box[1])
    if before <= 0.0:
        # Nothing to measure: an object without area is in when its place is.
        return inside, 1.0 if _inside((box[0], box[1], box[2], box[3]), window) else 0.0
    return inside, float((inside[2] - inside[0]) * (inside[3] - inside[1]) / before)


def _moved_keypoints(keypoints: NDArray[np.float64], matrix: Matrix, window: Rect, swap: Pairs) -> NDArray[np.float64]:
    """Keypoints after the move; those out of the window are no longer labelled; mirrors swap pairs."""
    count, number = keypoints.shape[0], keypoints.shape[1]
    if number == 0:
        return keypoints
    moved = keypoints.copy()
    moved[:, :, :2] = matrix.points(keypoints[:, :, :2].reshape(-1, 2)).reshape(count, number, 2)
    if matrix.mirrors:
        moved = moved[:, swap]
    x, y = moved[:, :, 0], moved[:, :, 1]
    gone = (moved[:, :, 2] == 0) | (x < window[0]) | (y < window[1]) | (x >= window[2]) | (y >= window[3])
    moved[gone] = 0.0
    return moved
