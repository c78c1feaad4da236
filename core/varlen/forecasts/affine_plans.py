"""Variants whose labels make affine moves alone, counted many at once; and what is counted of all others, one by one."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.summary import box_sides
from varlen.kernels.label_transforms import TransformedShapes, transform_shapes
from varlen.labels.keep_rule import CUT_BY_FRAME, WHOLE, Flags, cut_reason, lost, required_share, small_reason, too_small, touched
from varlen.labels.outcomes import SOURCE, responsible_steps, shrinking_step
from varlen.labels.propagate import labels_of
from varlen.labels.transform import does_nothing, drop_small, shape_arrays, swaps_sides
from varlen.model.effects import PixelOperation
from varlen.model.geometry import Size
from varlen.model.objects import Objects, Outlines
from varlen.pipeline.plan import Plan, Resample, Tiled
from varlen.render.renderer import Renderer
from varlen.shapes.polygons import polygon_from_mask


@dataclass(slots=True)
class Tally:
    """What was counted; `sides`: square roots of box areas in px, before and after; `aspects`: their width / height; `shares`: blank shares."""

    variants: int = 0
    before: Counter[str] = field(default_factory=Counter)
    kept: Counter[str] = field(default_factory=Counter)
    clipped: Counter[tuple[str, str]] = field(default_factory=Counter)
    dropped: Counter[tuple[str, str]] = field(default_factory=Counter)
    reasons: Counter[tuple[str, str]] = field(default_factory=Counter)
    keypoints: list[int] = field(default_factory=lambda: [0, 0])
    sides: tuple[list[NDArray[np.float64]], list[NDArray[np.float64]]] = field(default_factory=lambda: ([], []))
    aspects: tuple[list[NDArray[np.float64]], list[NDArray[np.float64]]] = field(default_factory=lambda: ([], []))
    blanks: list[float] = field(default_factory=list)
    passes: Counter[int] = field(default_factory=Counter)
    refused: Counter[str] = field(default_factory=Counter)

    @property
    def lost_share(self) -> float:
        """Share of all objects that were dropped by a step of the pipeline."""
        lost = sum(count for (_, step), count in self.dropped.items() if step != SOURCE)
        return lost / max(sum(self.before.values()), 1)


@dataclass(frozen=True, slots=True)
class Motion:
    """One straight move of a picture's objects, as a plan or a tile of a mosaic makes it.

    partner_of: the step that brought the picture in as a partner, which does not lose what it never showed; after: what is done to
    the whole picture then, an upright resample that cuts nothing.
    """

    run: Resample
    partner_of: str = ""
    after: Resample | None = None


def count_one(renderer: Renderer, plan: Plan, tally: Tally) -> None:
    """Any plan, by the same way that an export takes."""
    dataset, classes = renderer.dataset, renderer.dataset.classes
    labels = labels_of(plan, dataset, renderer.pipeline.labels)
    drop_small(labels, renderer.pipeline.labels)
    after = labels.objects
    tally.kept.update(classes[number] for number in after.classes.tolist())
    sources = {image: dataset.entries[image].objects for image in {*after.images, *(outcome.image for outcome in labels.dropped)}}
    places = {image: {name: place for place, name in enumerate(found.ids)} for image, found in sources.items()}
    met = [(image, places[image][name]) for image, name in [*zip(after.images, after.ids, strict=True), *((f.image, f.id) for f in labels.dropped)]]
    tally.before.update(classes[int(sources[image].classes[place])] for image, place in met)
    for outcome in labels.outcomes():
        name = classes[int(sources[outcome.image].classes[places[outcome.image][outcome.id]])]
        tally.reasons[outcome.step, outcome.reason] += 1
        (tally.dropped if outcome.outcome == "dropped" else tally.clipped)[name, outcome.step] += 1
    tally.keypoints[0] += sum(int(np.count_nonzero(sources[image].keypoints[place, :, 2])) for image, place in met)
    tally.keypoints[1] += int(np.count_nonzero(after.keypoints[:, :, 2])) if len(after) else 0
    before = np.array([sources[image].boxes[place] for image, place in met]).reshape(-1, 4)
    for boxes, sides, aspects in ((before, tally.sides[0], tally.aspects[0]), (after.boxes, tally.sides[1], tally.aspects[1])):
        sides.append(box_sides(boxes))
        aspects.append(_aspects(boxes))


def _aspects(boxes: NDArray[np.float64]) -> NDArray[np.float64]:
    """Width / height of boxes (N, 4); 1 for those without a height."""
    width, height = (boxes[:, 2:] - boxes[:, :2]).T
    return np.asarray(np.where(height > 0, width / np.maximum(height, 1e-9), 1.0))


def outlined(objects: Objects) -> Objects:
    """The same objects with outlines along the borders of their masks in place of these: much quicker to move, and as large to the pixel."""
    if all(mask is None for mask in objects.masks):
        return objects
    pairs = zip(objects.polygons, objects.masks, strict=True)
    polygons = [polygon if mask is None else polygon_from_mask(mask) for polygon, mask in pairs]
    return objects.replace(outlines=Outlines.of(polygons), masks=(None,) * len(objects))


class MoveCounter:
    """Counts many moves of one image's objects at once; none of these reaches out of its picture."""

    def __init__(self, renderer: Renderer, image: str, tally: Tally) -> None:
        self.rules, self.classes, self.tally = renderer.pipeline.labels, renderer.dataset.classes, tally
        self.swap = renderer.dataset.class_swap
        self.objects = outlined(renderer.dataset.entries[image].objects)
        self.names = [self.classes[number] for number in self.objects.classes.tolist()]
        self.small_before = too_small(self.objects.boxes, self.rules)

    def count(self, matrices: NDArray[np.float64], windows: NDArray[np.float64], motion_of: Callable[[int], Motion],
              grown: NDArray[np.float64] | None = None) -> None:  # fmt: skip
        """Moves that are all affine or none: matrices (V, 9), windows (V, 4) in px.

        motion_of: one of them, asked for where something is to be blamed; grown: (V, 2), how much wider and higher what comes after makes things.
        """
        objects, rules = self.objects, self.rules
        if len(objects) == 0:
            return
        affine = bool((matrices[0, 6:8] == 0.0).all())
        found = transform_shapes(shape_arrays(objects, rules, affine), matrices, windows)
        dropped = lost(found.share, found.share, objects.crowd, rules)
        small_then = too_small(found.boxes, rules)
        boxes = found.boxes if grown is None else found.boxes * np.tile(grown, 2)[:, None, :]
        small = ~dropped & (small_then if grown is None else too_small(boxes, rules))
        blamed = dropped | (~small & touched(found.share))
        met = np.ones(blamed.shape, np.bool_)
        small_in, blamed_in = np.asarray(small.any(axis=1)), np.asarray(blamed.any(axis=1))
        for v in np.flatnonzero(small_in | blamed_in).tolist():
            motion = motion_of(v)
            if small_in[v]:
                self._small(motion, np.flatnonzero(small[v]).tolist(), small_then[v])
            if blamed_in[v]:
                self._cut(motion, np.flatnonzero(blamed[v]), dropped[v], found.share[v], met[v])
        self._sum(matrices, motion_of, found, boxes, met, met & ~dropped & ~small)

    def _small(self, motion: Motion, places: Sequence[int], small_then: Flags) -> None:
        """Objects that ended too small."""
        for n in places:
            shrunk = motion.run if motion.after is None or small_then[n] else motion.after
            step = SOURCE if self.small_before[n] and shrunk is motion.run else shrinking_step(shrunk)
            self.tally.dropped[self.names[n], step] += 1
            self.tally.reasons[step, small_reason(self.rules)] += 1

    def _cut(self, motion: Motion, places: NDArray[np.int64], dropped: Flags, share: NDArray[np.float64], met: Flags) -> None:
        """Objects that the frame clipped or took; `met` is told of those of a partner that were never seen."""
        limit = required_share(self.rules, 1.0)
        gone = dropped[places].tolist()
        steps = responsible_steps(motion.run, self.objects.boxes[places], [limit if each else WHOLE for each in gone])
        for n, is_gone, step in zip(places.tolist(), gone, steps, strict=True):
            if is_gone and share[n] <= 0.0 and step == motion.partner_of:
                met[n] = False
                continue
            (self.tally.dropped if is_gone else self.tally.clipped)[self.names[n], step] += 1
            self.tally.reasons[step, cut_reason(float(share[n]), self.rules) if is_gone else CUT_BY_FRAME] += 1

    def _sum(self, matrices: NDArray[np.float64], motion_of: Callable[[int], Motion], found: TransformedShapes, boxes: NDArray[np.float64],
             met: Flags, kept: Flags) -> None:  # fmt: skip
        """What there was, and what is left of it."""
        tally, objects = self.tally, self.objects
        met_each = met.sum(axis=0)
        for name, number in zip(self.names, met_each.tolist(), strict=True):
            tally.before[name] += number
        swaps = np.zeros(len(matrices), np.bool_)
        if len(self.swap):
            turned = np.flatnonzero(np.linalg.det(matrices.reshape(-1, 3, 3)) < 0.0).tolist()
            swaps[turned] = [swaps_sides(motion_of(v).run) for v in turned]
        for moves, classes in ((~swaps, objects.classes), (swaps, self.swap[objects.classes] if len(self.swap) else objects.classes)):
            for number, count in zip(classes.tolist(), kept[moves].sum(axis=0).tolist(), strict=True):
                tally.kept[self.classes[number]] += count
        tally.keypoints[0] += int(np.count_nonzero(objects.keypoints[:, :, 2], axis=1) @ met_each)
        tally.keypoints[1] += int(found.keypoints[kept].sum())
        tally.sides[0].append(np.repeat(box_sides(objects.boxes), met_each))
        tally.sides[1].append(box_sides(boxes[kept]))
        tally.aspects[0].append(np.repeat(_aspects(objects.boxes), met_each))
        tally.aspects[1].append(_aspects(boxes[kept]))


def only_resample(plan: Plan) -> Resample | None:
    """The one resample of a plan that does nothing else to labels; None for other plans."""
    runs = _resamples(plan)
    return runs[0] if plan.base is None and runs is not None and len(runs) == 1 and not runs[0].bends else None


def _resamples(plan: Plan) -> list[Resample] | None:
    """The resamples among a plan's stages; None where others change labels, too."""
    if any(not isinstance(stage, (Resample, PixelOperation, tuple)) for stage in plan.stages):
        return None
    return [stage for stage in plan.stages if isinstance(stage, Resample)]


def straight_tiles(plan: Plan) -> list[tuple[str, Motion]] | None:
    """The image and the move of each tile of a mosaic that is then at most made larger or smaller; None for other plans."""
    if not isinstance(plan.base, Tiled):
        return None
    later = _resamples(plan)
    if later is None:
        return None
    later = [run for run in later if not does_nothing(run)]
    runs = [only_resample(tile) for tile in plan.base.tiles]
    if len(later) > 1 or any(not _grows(run, plan.base.size) for run in later):
        return None
    after = later[0] if later else None
    found = []
    for place, (tile, run) in enumerate(zip(plan.base.tiles, runs, strict=True)):
        if run is None or not run.matrix.affine:
            return None
        found.append((tile.image, Motion(run, plan.base.step if place else "", after)))
    return found


def _grows(run: Resample, size: Size) -> bool:
    """Whether a run makes a picture of this size larger or smaller, upright, and shows all of it."""
    matrix, (x0, y0, x1, y1) = run.matrix, run.target_rect
    if run.bends or not matrix.upright() or matrix.a <= 0.0 or matrix.e <= 0.0:
        return False
    return x0 <= matrix.c and matrix.a * size.width + matrix.c <= x1 and y0 <= matrix.f and matrix.e * size.height + matrix.f <= y1
