"""What a pipeline will do to the labels, from thousands of draws on the labels alone.

A forecast takes variants 1, 2, … of the training images, as an edition would, and follows
their labels: no pixel is touched. The same numbers that an export will write down are
counted; only objects with masks are followed by the outlines of these, whose shares differ
from counted pixels by a fraction of a percent.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.dataset import Dataset
from varlen.errors import RenderError, VarlenError
from varlen.forecasts.affine_plans import Motion, MoveCounter, Tally, count_one, only_resample, straight_tiles
from varlen.labels.outcomes import SOURCE
from varlen.labels.transform import sticks_out
from varlen.pipeline.document import Pipeline
from varlen.render.renderer import Renderer

#: Default number of draws of a forecast.
DRAWS = 2000
#: Variants of one image that are followed together.
BATCH = 256
#: Images whose outlines are kept at hand.
MOST_COUNTERS = 64
#: How finely blank shares are counted.
BLANK_BINS = 20
QUANTILES = (0.05, 0.25, 0.5, 0.75, 0.95)


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
    count = _Count(renderer)
    for image, variants in _spread(images, draws):
        for batch in _batches(variants):
            count.batch(image, batch)
            progress(count.tally.variants)
    return count.rest()


def _batches(variants: range) -> Iterator[range]:
    for start in range(0, len(variants), BATCH):
        yield variants[start : start + BATCH]


class _Count:
    """Counts variants: what makes one straight move, as a whole or in the tiles of a mosaic, many at once, all else one by one."""

    def __init__(self, renderer: Renderer) -> None:
        self.renderer, self.dataset = renderer, renderer.dataset
        self.tally = Tally()
        self.counters: dict[str, MoveCounter] = {}
        self.inside: dict[str, bool] = {}
        self.tiles: dict[str, list[Motion]] = {}

    def batch(self, image: str, variants: range) -> None:
        """Some variants of one image."""
        tally, simple = self.tally, []
        for variant in variants:
            try:
                plan = self.renderer.plan(image, variant)
            except RenderError as error:
                tally.refused[str(error)] += 1
                continue
            tally.variants += 1
            tally.blanks.append(plan.blank_share)
            tally.passes[plan.passes] += 1
            run = only_resample(plan) if self._is_inside(image) else None
            tiles = straight_tiles(plan)
            if run is not None:
                simple.append(Motion(run))
            elif tiles and all(self._is_inside(tile) for tile, _ in tiles):
                for tile, motion in tiles:
                    self.tiles.setdefault(tile, []).append(motion)
            else:
                count_one(self.renderer, plan, tally)
        self._moves(image, simple)

    def rest(self) -> Tally:
        """What was found, once the tiles that wait are counted, all of a picture at once."""
        for image, motions in self.tiles.items():
            self._moves(image, motions)
        self.tiles.clear()
        return self.tally

    def _moves(self, image: str, motions: list[Motion]) -> None:
        for affine in (True, False):
            some = [motion for motion in motions if motion.run.matrix.affine == affine]
            if not some:
                continue
            matrices, windows = np.array([motion.run.matrix for motion in some]), np.array([motion.run.target_rect for motion in some])
            grown = None
            if any(motion.after for motion in some):
                grown = np.array([(1.0, 1.0) if motion.after is None else (motion.after.matrix.a, motion.after.matrix.e) for motion in some])
            self._counter(image).count(matrices, windows, some.__getitem__, grown)

    def _counter(self, image: str) -> MoveCounter:
        if image not in self.counters:
            if len(self.counters) == MOST_COUNTERS:
                self.counters.clear()
            self.counters[image] = MoveCounter(self.renderer, image, self.tally)
        return self.counters[image]

    def _is_inside(self, image: str) -> bool:
        """Whether no label reaches out of its picture: such are clipped first, which an export's own way does."""
        if image not in self.inside:
            self.inside[image] = not sticks_out(self.dataset.objects_of(image), self.dataset.size_of(image))
        return self.inside[image]
