"""What a pipeline will do to the labels, from thousands of draws on the labels alone.

A forecast takes variants 1, 2, … of the training images, as an edition would, and follows
their labels: no pixel is touched. The same numbers that an export will write down are
counted; only objects with masks are followed by the outlines of these, whose shares differ
from counted pixels by a fraction of a percent.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.dataset import Dataset
from varlen.datasets.summary import box_sides
from varlen.errors import RenderError, VarlenError
from varlen.forecasts.many_moves import moves_of
from varlen.kernels.label_transforms import transform_shapes
from varlen.labels.attribution import responsible_steps, shrinking_step
from varlen.labels.keep_rule import CUT_BY_FRAME, WHOLE, cut_reason, lost, required_share, small_reason, too_small, touched
from varlen.labels.outcomes import SOURCE
from varlen.labels.propagate import labels_of
from varlen.labels.transform import drop_small, shape_arrays, sticks_out
from varlen.model.effects import Detail
from varlen.model.objects import Objects, Outlines
from varlen.pipeline.document import Pipeline
from varlen.pipeline.plan import Plan, Resample
from varlen.render.renderer import Renderer
from varlen.shapes.mask_polygons import polygon_from_mask

#: Default number of draws of a forecast.
DRAWS = 2000
#: Variants of one image that are followed together.
BATCH = 256
#: How finely blank shares are counted.
BLANK_BINS = 20
QUANTILES = (0.05, 0.25, 0.5, 0.75, 0.95)


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


def forecast(dataset: Dataset, pipeline: Pipeline, draws: int = DRAWS, progress: Callable[[int], None] = lambda done: None) -> dict[str, Any]:
    """Counts and shares as JSON-able values, over `draws` variants spread over the training images."""
    tally = count_draws(Renderer(dataset, pipeline), draws, progress)
    objects = sum(tally.before.values())
    dropped, clipped = sum(tally.dropped.values()), sum(tally.clipped.values())
    kept = sum(tally.kept.values())
    steps = [SOURCE, *(step.id for step in pipeline.all_steps())]
    return {
        "variants": tally.variants,
        "images": len(_training(dataset)),
        "objects": {"before": objects, "kept": kept - clipped, "clipped": clipped, "dropped": dropped},
        "lost_share": round(tally.lost_share, 6),
        "classes": {
            name: {
                "before": tally.before[name],
                "after": tally.kept[name],
                "clipped": sum(count for (cls, _), count in tally.clipped.items() if cls == name),
                "dropped": sum(count for (cls, _), count in tally.dropped.items() if cls == name),
                "balance_before": round(tally.before[name] / max(objects, 1), 6),
                "balance_after": round(tally.kept[name] / max(kept, 1), 6),
            }
            for name in dataset.classes
        },
        "steps": {
            step: {
                "clipped": sum(count for (_, blamed), count in tally.clipped.items() if blamed == step),
                "dropped": sum(count for (_, blamed), count in tally.dropped.items() if blamed == step),
                "reasons": {reason: count for (blamed, reason), count in sorted(tally.reasons.items()) if blamed == step},
            }
            for step in steps
            if any(blamed == step for _, blamed in [*tally.clipped, *tally.dropped])
        },
        "box_side_px": {"before": _quantiles(tally.sides[0]), "after": _quantiles(tally.sides[1])},
        "box_aspect": {"before": _quantiles(tally.aspects[0]), "after": _quantiles(tally.aspects[1])},
        "blank_share": _blank(tally.blanks),
        "blank_bins": np.histogram(tally.blanks, BLANK_BINS, (0.0, 1.0))[0].tolist(),
        "keypoints": {"before": tally.keypoints[0], "after": tally.keypoints[1]},
        "passes": {str(count): number for count, number in sorted(tally.passes.items())},
        "refused": dict(tally.refused),
    }


def _quantiles(parts: list[NDArray[np.float64]]) -> dict[str, float]:
    values = np.concatenate(parts) if parts else np.zeros(0)
    if values.size == 0:
        return {}
    return {f"{share * 100:g}%": round(float(value), 2) for share, value in zip(QUANTILES, np.quantile(values, QUANTILES), strict=True)}


def _blank(blanks: list[float]) -> dict[str, float]:
    if not blanks:
        return {}
    found = np.array(blanks)
    return {"mean": round(float(found.mean()), 6), "95%": round(float(np.quantile(found, 0.95)), 6), "largest": round(float(found.max()), 6)}


def _training(dataset: Dataset) -> Sequence[str]:
    return dataset.by_split().get("train", ())


def _spread(images: Sequence[str], draws: int) -> Iterator[tuple[str, range]]:
    """Every image with the variants it gets: `draws` in all, the first images one more where they can't be shared evenly."""
    each, rest = divmod(draws, len(images))
    for place, image in enumerate(images):
        count = each + (place < rest)
        if count:
            yield image, range(1, count + 1)


def count_draws(renderer: Renderer, draws: int, progress: Callable[[int], None] = lambda done: None) -> Tally:
    """Follow the labels of `draws` variants."""
    images = _training(renderer.dataset)
    if not images:
        raise VarlenError(f"{renderer.dataset.name}: no training images, so there is nothing to forecast")
    tally = Tally()
    for image, variants in _spread(images, draws):
        for batch in _batches(variants):
            _count_batch(renderer, image, batch, tally)
            progress(tally.variants)
    return tally


def _batches(variants: range) -> Iterator[range]:
    for start in range(0, len(variants), BATCH):
        yield variants[start : start + BATCH]


def _count_batch(renderer: Renderer, image: str, variants: range, tally: Tally) -> None:
    """Variants whose labels make one straight move are planned and counted together, others one by one."""
    # Labels that reach out of their picture are clipped first; an export's own way does that.
    inside = not sticks_out(renderer.dataset.objects_of(image), renderer.dataset.size_of(image))
    moves = moves_of(renderer.pipeline, renderer.dataset, image, variants) if inside else None
    if moves is not None and len(moves.matrices):
        tally.variants += len(moves.matrices)
        tally.blanks += moves.blanks
        tally.passes.update(moves.passes)
        _count_moves(renderer, image, moves.matrices, moves.windows, moves.run, tally)
    simple: list[Resample] = []
    for variant in variants if moves is None else moves.left:
        try:
            plan = renderer.plan(image, variant)
        except RenderError as error:
            tally.refused[str(error)] += 1
            continue
        tally.variants += 1
        tally.blanks.append(plan.blank_share)
        tally.passes[plan.passes] += 1
        run = _only_resample(plan) if inside else None
        if run is not None:
            simple.append(run)
        else:
            _count_one(renderer, plan, tally)
    for affine in (True, False):
        runs = [run for run in simple if run.matrix.affine == affine]
        if runs:
            matrices, windows = np.array([run.matrix for run in runs]), np.array([run.target_rect for run in runs])
            _count_moves(renderer, image, matrices, windows, runs.__getitem__, tally)


def _only_resample(plan: Plan) -> Resample | None:
    """The one resample of a plan that does nothing else to labels; None for other plans."""
    if plan.base is not None:
        return None
    runs = [stage for stage in plan.stages if isinstance(stage, Resample)]
    others = [stage for stage in plan.stages if not isinstance(stage, (Resample, Detail, tuple))]
    return runs[0] if len(runs) == 1 and not others and not runs[0].bends else None


def _count_one(renderer: Renderer, plan: Plan, tally: Tally) -> None:
    """Any plan, by the same way that an export takes."""
    dataset, classes = renderer.dataset, renderer.dataset.classes
    labels = labels_of(plan, dataset, renderer.pipeline.labels)
    drop_small(labels, renderer.pipeline.labels)
    after = labels.objects
    names = [classes[number] for number in after.classes.tolist()]
    tally.kept.update(names)
    tally.before.update(names)
    sources = {image: dataset.entries[image].objects for image in {*after.images, *(outcome.image for outcome in labels.dropped)}}
    places = {image: {name: place for place, name in enumerate(found.ids)} for image, found in sources.items()}
    for outcome in labels.outcomes():
        name = classes[int(sources[outcome.image].classes[places[outcome.image][outcome.id]])]
        tally.reasons[outcome.step, outcome.reason] += 1
        if outcome.outcome == "dropped":
            tally.dropped[name, outcome.step] += 1
            tally.before[name] += 1
        else:
            tally.clipped[name, outcome.step] += 1
    met = [(image, places[image][name]) for image, name in [*zip(after.images, after.ids, strict=True), *((f.image, f.id) for f in labels.dropped)]]
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


def _outlined(objects: Objects) -> Objects:
    """The same objects with outlines along the borders of their masks in place of these: much quicker to move, and as large to the pixel."""
    if all(mask is None for mask in objects.masks):
        return objects
    pairs = zip(objects.polygons, objects.masks, strict=True)
    polygons = [polygon if mask is None else polygon_from_mask(mask) for polygon, mask in pairs]
    return objects.replace(outlines=Outlines.of(polygons), masks=(None,) * len(objects))


def _count_moves(
    renderer: Renderer, image: str, matrices: NDArray[np.float64], windows: NDArray[np.float64], run_of: Callable[[int], Resample], tally: Tally
) -> None:
    """Many moves of one image's objects at once, all affine or none: matrices (V, 9), windows (V, 4) in px; run_of: the steps of one of them."""
    rules = renderer.pipeline.labels
    objects = _outlined(renderer.dataset.entries[image].objects)
    if len(objects) == 0:
        return
    affine = bool((matrices[0, 6:8] == 0.0).all())
    found = transform_shapes(shape_arrays(objects, rules, affine), matrices, windows)
    names = [renderer.dataset.classes[number] for number in objects.classes.tolist()]
    small_before = too_small(objects.boxes, rules)
    dropped = lost(found.share, found.share, objects.crowd, rules)
    small = ~dropped & too_small(found.boxes, rules)
    kept = ~dropped & ~small
    limit = required_share(rules, 1.0)
    blamed = dropped | (~small & touched(found.share))
    for v in np.flatnonzero((small | blamed).any(axis=1)).tolist():
        run = run_of(v)
        for n in np.flatnonzero(small[v]).tolist():
            step = SOURCE if small_before[n] else shrinking_step(run)
            tally.dropped[names[n], step] += 1
            tally.reasons[step, small_reason(rules)] += 1
        places = np.flatnonzero(blamed[v])
        if not len(places):
            continue
        gone = dropped[v, places].tolist()
        steps = responsible_steps(run, objects.boxes[places], [limit if each else WHOLE for each in gone])
        for n, is_gone, step in zip(places.tolist(), gone, steps, strict=True):
            (tally.dropped if is_gone else tally.clipped)[names[n], step] += 1
            tally.reasons[step, cut_reason(float(found.share[v, n]), rules) if is_gone else CUT_BY_FRAME] += 1
    per_object = kept.sum(axis=0).tolist()
    for name, number in zip(names, per_object, strict=True):
        tally.before[name] += len(matrices)
        tally.kept[name] += number
    tally.keypoints[0] += int(np.count_nonzero(objects.keypoints[:, :, 2])) * len(matrices)
    tally.keypoints[1] += int(found.keypoints[kept].sum())
    tally.sides[0].append(np.repeat(box_sides(objects.boxes), len(matrices)))
    tally.sides[1].append(box_sides(found.boxes[kept]))
    tally.aspects[0].append(np.repeat(_aspects(objects.boxes), len(matrices)))
    tally.aspects[1].append(_aspects(found.boxes[kept]))
