"""Carrying labels through a resample: move, fit, clip, keep or drop.

Order for each object: its polygon or mask is moved and clipped, and the box is fitted to
what is left; without either the box itself is moved by the pipeline's `box_fit` rule. A box
that stays upright and whole is moved exactly. Objects of which less than `keep_share` is
left are dropped, with the step to blame; regions of many (crowd) stay while any part is in
the frame, for they say where not to look.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.array_checks import HAIR
from varlen.kernels.bends import divided
from varlen.kernels.label_transforms import ShapeArrays, TransformedShapes, moved_keypoints, reaches_out, transform_shapes
from varlen.labels.keep_rule import CUT_BY_FRAME, WHOLE, cut_reason, lost, required_share, small_reason, too_small, touched
from varlen.labels.oriented import moved_oriented
from varlen.labels.outcomes import SOURCE, LabelState, responsible_steps, shrinking_step
from varlen.model.geometry import IDENTITY, Rect, Size, area
from varlen.model.objects import Mask, Objects, Outlines
from varlen.pipeline.plan import Resample, StepTransform
from varlen.pipeline.reading import LabelRules
from varlen.shapes.polygons import clipped

Pairs = NDArray[np.int64]


def initial_labels(objects: Objects, rules: LabelRules, size: Size) -> LabelState:
    """The labels of a source picture of `size` before any step: what reaches outside is clipped, with the source to blame."""
    labels = LabelState.of(objects)
    if sticks_out(objects, size):
        _carry(labels, Resample(before=size, size=size, members=[StepTransform(SOURCE, (), IDENTITY, size)]), rules, np.zeros(0, np.int64))
    else:
        mark_small(labels, rules, None)
    return labels


def sticks_out(objects: Objects, size: Size) -> bool:
    """Whether any label reaches out of its picture."""
    if len(objects) == 0:
        return False
    for points in (objects.boxes, objects.outlines.points):
        if reaches_out(points.reshape(-1) + HAIR, size.width + 2 * HAIR, size.height + 2 * HAIR):
            return True
    return any(mask is not None and not _within(mask.box, size.rect) for mask in objects.masks)


def transform_labels(labels: LabelState, run: Resample, rules: LabelRules, swap: Pairs, class_swap: Pairs | None = None) -> None:
    """Take `labels` through one resample, in place.

    swap: (K,) for each keypoint the one it becomes in a mirror image; class_swap: likewise for classes, of which left and
    right change places when the picture is mirrored from left to right.
    """
    if len(labels.objects) and not does_nothing(run):
        _carry(labels, run, rules, swap)
        if class_swap is not None and len(class_swap) and swaps_sides(run):
            labels.objects = labels.objects.replace(classes=class_swap[labels.objects.classes])


def swaps_sides(run: Resample) -> bool:
    """Whether a run shows the picture as a mirror on its left or right would, not as one above or below it."""
    if not run.mirrors:
        return False
    middle = np.array([[run.before.width / 2, run.before.height / 2]])
    here, right, down = (run.points(middle + step)[0] for step in ([0.0, 0.0], [0.5, 0.0], [0.0, 0.5]))
    return float(right[0] - here[0]) < float(down[1] - here[1])


def _carry(labels: LabelState, run: Resample, rules: LabelRules, swap: Pairs) -> None:
    objects, window = labels.objects, run.target_rect
    found, outlines = _transformed(objects, run, rules)
    boxes, share, masks = found.boxes[0], found.share[0], objects.masks
    if any(mask is not None for mask in masks):
        moved = [mask and _moved_mask(mask, run, window) for mask in masks]
        for place, each in enumerate(moved):
            if each is not None:
                share[place] = each[1]
                boxes[place] = each[0].box if each[0] is not None else 0.0
        masks = tuple(each and each[0] for each in moved)
    after = objects.replace(
        boxes=boxes, outlines=outlines, masks=masks, growth=objects.growth * found.growth[0],
        keypoints=_moved_keypoints(objects.keypoints, run, window, swap), share=objects.share * share,
        oriented=moved_oriented(objects.oriented, run),
    )  # fmt: skip
    kept = _settle(labels, run, rules, after, share)
    labels.keep(after, kept)
    crossing = found.crossing[0][kept]
    if crossing.any():
        labels.objects = labels.objects.replace(outlines=_cut_outlines(labels.objects, crossing, window))
    mark_small(labels, rules, run)


def drop_small(labels: LabelState, rules: LabelRules) -> None:
    """Drop the objects that ended too small."""
    kept = []
    for place, step in enumerate(labels.small):
        if step is None:
            kept.append(place)
        else:
            labels.drop(place, small_reason(rules), step, float(labels.objects.share[place]))
    labels.keep(labels.objects, kept)


def does_nothing(run: Resample) -> bool:
    """Whether a run leaves everything where it is."""
    return run.window is None and run.size == run.before and not run.bends and run.matrix == IDENTITY


def _settle(labels: LabelState, run: Resample, rules: LabelRules, after: Objects, share: NDArray[np.float64]) -> list[int]:
    """Sort objects into whole, clipped and dropped; returns the places of those to keep."""
    places = np.flatnonzero(touched(share))
    if not len(places):
        return list(range(len(after)))
    objects, cut = labels.objects, places.tolist()
    gone = set(np.flatnonzero(lost(share, after.share, objects.crowd, rules)).tolist())
    limits = [required_share(rules, float(objects.share[place])) if place in gone else WHOLE for place in cut]
    for place, step in zip(cut, responsible_steps(run, objects.boxes[places], limits), strict=True):
        if place in gone:
            labels.drop(place, cut_reason(float(share[place]), rules), step, float(after.share[place]))
        else:
            labels.clipped[place] = (step, CUT_BY_FRAME)
    return [place for place in range(len(after)) if place not in gone]


def mark_small(labels: LabelState, rules: LabelRules, run: Resample | None, step: str | None = None) -> None:
    """Remember which objects are under the size limit now, and since which step: one of `run`, or `step`."""
    under = too_small(labels.objects.boxes, rules)
    if not under.any():
        labels.small = [None] * len(under)
        return
    for place, small in enumerate(under.tolist()):
        if not small:
            labels.small[place] = None
        elif labels.small[place] is None:
            labels.small[place] = step or shrinking_step(run)


def shape_arrays(objects: Objects, rules: LabelRules, affine: bool) -> ShapeArrays:
    """What a survey needs to know of objects; ellipses are only fitted to affine moves."""
    return ShapeArrays.of(objects, objects.outlines, affine and rules.box_fit == "ellipse")


def _transformed(objects: Objects, run: Resample, rules: LabelRules) -> tuple[TransformedShapes, Outlines]:
    """Where all objects end up, and their outlines there, not yet clipped."""
    outlines, matrix = objects.outlines, run.matrix
    shapes = shape_arrays(objects, rules, matrix.affine and not run.bends)
    if run.bends:
        # Long edges get points in between, so that they bend too; then everything is moved before it is measured.
        rings = [divided(ring, run.bends) for ring in np.split(shapes.points, shapes.starts[1:-1])]
        starts = np.cumsum([0] + [len(ring) for ring in rings])
        points = run.points(np.concatenate(rings))
        shapes = shapes._replace(points=points, starts=starts)
        count = len(outlines.owners)
        outlines = outlines._replace(points=points[: starts[count]], starts=starts[: count + 1])
        matrix = IDENTITY
    else:
        outlines = outlines.with_points(matrix.points(outlines.points))
    return transform_shapes(shapes, np.array([matrix]), np.array([run.target_rect]), moved=bool(run.bends)), outlines


def _cut_outlines(objects: Objects, crossing: NDArray[np.bool_], window: Rect) -> Outlines:
    """The outlines of all objects, of the `crossing` ones only what is inside the window."""
    places = np.flatnonzero(crossing).tolist()
    polygons = list(objects.polygons)
    for place, polygon in zip(places, clipped([polygons[place] or () for place in places], window), strict=True):
        polygons[place] = polygon
    return Outlines.of(polygons)


def _moved_mask(mask: Mask, run: Resample, window: Rect) -> tuple[Mask | None, float]:
    """The mask after the move, cut to the window, and the share of its area that is left."""
    from varlen.kernels.warp_masks import warp_mask

    outline = run.outline(mask.box)
    fitted = (min(p[0] for p in outline), min(p[1] for p in outline), max(p[0] for p in outline), max(p[1] for p in outline))
    x0, y0 = max(math.floor(fitted[0]), int(window[0])), max(math.floor(fitted[1]), int(window[1]))
    x1, y1 = min(math.ceil(fitted[2]), int(window[2])), min(math.ceil(fitted[3]), int(window[3]))
    if x0 >= x1 or y0 >= y1:
        return None, 0.0
    pixels, (left, top, right, bottom), count = warp_mask(mask.pixels, mask.left, mask.top, run.bends, run.matrix, (x0, y0, x1, y1))
    if count == 0:
        return None, 0.0
    moved = Mask(x0 + left, y0 + top, np.ascontiguousarray(pixels[top:bottom, left:right]))
    if _within(fitted, window) or not _touches(moved.box, window):
        return moved, 1.0
    height, width = mask.pixels.shape
    before = int(np.count_nonzero(mask.pixels)) * area(outline) / (width * height)
    return moved, min(count / before, 1.0) if before > 0 else 0.0


def _touches(box: Rect, window: Rect) -> bool:
    return box[0] <= window[0] or box[1] <= window[1] or box[2] >= window[2] or box[3] >= window[3]


def _within(box: Rect, window: Rect) -> bool:
    return box[0] >= window[0] and box[1] >= window[1] and box[2] <= window[2] and box[3] <= window[3]


def _moved_keypoints(keypoints: NDArray[np.float64], run: Resample, window: Rect, swap: Pairs) -> NDArray[np.float64]:
    """Keypoints after the move; those out of the window are no longer labelled; mirrors swap pairs."""
    if keypoints.size == 0:
        return keypoints
    matrix = run.matrix
    if run.bends:
        keypoints, matrix = keypoints.copy(), IDENTITY
        keypoints[:, :, :2] = run.points(keypoints[:, :, :2].reshape(-1, 2)).reshape(*keypoints.shape[:2], 2)
    return moved_keypoints(keypoints, matrix, window, swap if run.mirrors else None)
