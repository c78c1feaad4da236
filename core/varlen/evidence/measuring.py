"""Conditions of many pictures: training pictures, a pipeline's variants, a field, each as a model would see them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.dataset import Dataset
from varlen.errors import VarlenError
from varlen.evidence.conditions import LABEL_NAMES, PIXEL_NAMES, conditions_of, objects_of
from varlen.evidence.pixel_measures import quality_of_file, quality_of_pixels
from varlen.executors import processes
from varlen.model.effects import PixelOperation
from varlen.pipeline.document import Pipeline
from varlen.pipeline.plan import Plan, Resample
from varlen.render.planner import plan_variant
from varlen.render.renderer import Renderer
from varlen.render.source_pictures import PictureCache

#: A picture and its variant; 0 is the picture itself through the steps for every picture.
Wanted = tuple[str, int]
CACHE_BYTES = 64 << 20
#: Less blank area than this changes no condition.
LITTLE_BLANK = 0.002
#: The qualities of files met so far, by digest: the variants of a picture share its own.
_qualities: dict[str, float] = {}
MOST_QUALITIES = 20_000
#: Pictures that a worker measures at a time.
BATCH = 8
#: Chunks of batches that a worker is given of one question.
CHUNKS = 4


@dataclass(frozen=True)
class Measured:
    """Conditions of pictures: `pixels` (N, 9) and `labels` (M, 3) float64, in the order of their names; a key for each row of `pixels`.

    left_out: what could not be measured, and why.
    """

    keys: list[str]
    pixels: NDArray[np.float64]
    labels: NDArray[np.float64]
    left_out: list[tuple[str, str]] = field(default_factory=list)

    def of(self, name: str) -> NDArray[np.float64]:
        """All values of one condition."""
        return self.pixels[:, PIXEL_NAMES.index(name)] if name in PIXEL_NAMES else self.labels[:, LABEL_NAMES.index(name)]

    def __len__(self) -> int:
        return len(self.keys)


def training_keys(dataset: Dataset) -> Sequence[str]:
    """The pictures that a model would be trained on: the training split, all pictures where there is none."""
    return dataset.by_split().get("train") or list(dataset.entries)


def measure_one(renderer: Renderer, key: str, variant: int) -> tuple[list[float], list[float] | None]:
    """Conditions of one picture's pixels, and of its labels where it has any. Raises `VarlenError`."""
    split = "train" if variant else renderer.dataset.entries[key].split
    plan = plan_variant(renderer.pipeline, renderer.dataset, key, split, variant)
    pixels = renderer.pixels(plan)
    values = conditions_of(pixels, _seen(renderer, plan))
    values["compression"] = _compression(renderer.dataset, key, plan)
    found = objects_of(renderer.labels(plan).objects, plan.size)
    return [values[name] for name in PIXEL_NAMES], None if found is None else [found[name] for name in LABEL_NAMES]


def _seen(renderer: Renderer, plan: Plan) -> NDArray[np.uint8] | None:
    """Where a variant of one picture shows picture and not fill; None where it all does, or is made of several pictures."""
    if plan.base is not None or plan.blank_share < LITTLE_BLANK:
        return None
    first = next((stage for stage in plan.stages if isinstance(stage, Resample)), None)
    if first is None:
        return None
    white = np.full((first.before.height, first.before.width, 3), 255, np.uint8)
    return renderer.moved_pixels(plan, white, 0)


def _compression(dataset: Dataset, key: str, plan: Plan) -> float:
    """The lower of the file's quality and those of the compress steps that took part."""
    digest = dataset.source_digest(key)
    if digest not in _qualities:
        own = quality_of_file(dataset.source(key))
        if len(_qualities) >= MOST_QUALITIES:
            _qualities.clear()
        _qualities[digest] = quality_of_pixels(dataset.pixels(key)) if own is None else float(own)
    quality = _qualities[digest]
    drawn = [float(stage.values["quality"]) for stage in plan.stages if isinstance(stage, PixelOperation) and stage.step.step == "compress"]
    return min([quality, *drawn])


class Measurer:
    """Measures in processes that stay alive from one question to the next, or in this one; the order never depends on them."""

    def __init__(self, workers: int = 1, progress: Callable[[int], None] = lambda done: None, stop: Callable[[], None] = lambda: None) -> None:
        """progress: told how many pictures were measured since the last time; stop: called now and then, may raise."""
        self.workers, self.progress, self.stop = workers, progress, stop
        self._pool: Executor | None = None

    def __enter__(self) -> Measurer:
        return self

    def __exit__(self, *_: object) -> None:
        if self._pool is not None:
            self._pool.shutdown(cancel_futures=True)

    def measure(self, dataset: Dataset, pipeline: Pipeline, wanted: Sequence[Wanted]) -> Measured:
        """Conditions of pictures and variants. What can't be read or made is left out, and said."""
        parts = [wanted[first : first + BATCH] for first in range(0, len(wanted), BATCH)]
        keys: list[str] = []
        rows: list[list[float]] = []
        labels: list[list[float]] = []
        left_out: list[tuple[str, str]] = []
        for part, found in zip(parts, self._each(dataset, pipeline, parts), strict=True):
            for (key, _), each in zip(part, found, strict=True):
                if isinstance(each, str):
                    left_out.append((key, each))
                    continue
                keys.append(key)
                rows.append(each[0])
                if each[1] is not None:
                    labels.append(each[1])
            self.progress(len(part))
            self.stop()
        return Measured(keys, np.array(rows).reshape(-1, len(PIXEL_NAMES)), np.array(labels).reshape(-1, len(LABEL_NAMES)), left_out)

    def _each(self, dataset: Dataset, pipeline: Pipeline, parts: Sequence[Sequence[Wanted]]) -> Iterable[list[Any]]:
        if self.workers <= 1 or len(parts) < 2:
            return map(_Part(dataset, pipeline), parts)
        if self._pool is None:
            self._pool = processes(self.workers)
        # The dataset travels with every chunk: a few of them, not one for each batch.
        return self._pool.map(_Part(dataset, pipeline), parts, chunksize=-(-len(parts) // (CHUNKS * self.workers)))


class _Part:
    """Measures a batch; can be sent to another process."""

    def __init__(self, dataset: Dataset, pipeline: Pipeline) -> None:
        self.dataset, self.pipeline = dataset, pipeline

    def __call__(self, part: Sequence[Wanted]) -> list[Any]:
        renderer = Renderer(self.dataset, self.pipeline, PictureCache(CACHE_BYTES))
        found: list[Any] = []
        for key, variant in part:
            try:
                found.append(measure_one(renderer, key, variant))
            except VarlenError as error:
                found.append(str(error))
        return found
