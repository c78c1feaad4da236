"""Making one variant: (dataset, pipeline, image, variant) to pixels, labels and trace.

The same code serves the contact sheet and the export, so a tile shows exactly the pixels
that would be written.
"""

from __future__ import annotations

import hashlib
import math
import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from varlen import __version__
from varlen.dataset import Dataset
from varlen.effects import Blur, Recolor
from varlen.geometry import Matrix, Size, scaling
from varlen.labels.carry import carry, finish, start
from varlen.labels.fates import Labels
from varlen.pipeline import Pipeline
from varlen.plan import Plan, Resample, plan_variant
from varlen.raster.blur import gaussian
from varlen.raster.copy import fill_outside, moved_view
from varlen.raster.fingerprint import fingerprint
from varlen.raster.recolor import recolor
from varlen.raster.resample import halved, resample, shrunk
from varlen.raster.warp import Pixels, warp
from varlen.sample import Objects, Sample

#: Shrinking by more than this in one bilinear step would alias.
MILD = 0.84


class PictureCache:
    """Decoded pictures, up to a number of bytes, least recently used out first. Safe among threads."""

    def __init__(self, most_bytes: int = 256 << 20) -> None:
        self.most = most_bytes
        self._held: OrderedDict[Hashable, Pixels] = OrderedDict()
        self._bytes = 0
        self._lock = threading.Lock()

    def get(self, key: Hashable, make: Callable[[], Pixels]) -> Pixels:
        """The picture kept under `key`, made when it is not there. Not to be written to."""
        with self._lock:
            if key in self._held:
                self._held.move_to_end(key)
                return self._held[key]
        picture = make()
        with self._lock:
            if key not in self._held:
                self._held[key] = picture
                self._bytes += picture.nbytes
            while self._bytes > self.most and len(self._held) > 1:
                self._bytes -= self._held.popitem(last=False)[1].nbytes
        return picture


@dataclass(frozen=True, slots=True)
class Outcome:
    """What a variant holds besides its pixels: size, objects, and the trace that explains it."""

    size: Size
    objects: Objects
    trace: dict[str, Any]


class Renderer:
    """Makes variants of a dataset's images under one pipeline."""

    def __init__(self, dataset: Dataset, pipeline: Pipeline, cache: PictureCache | None = None) -> None:
        self.dataset, self.pipeline = dataset, pipeline
        self.cache = cache or PictureCache()

    def plan(self, image: str, variant: int) -> Plan:
        """Draw and plan one variant; variant 0 is the original through the `every` steps alone."""
        return plan_variant(self.pipeline, self.dataset, image, self.dataset.entries[image].split, variant)

    def outcome(self, image: str, variant: int, plan: Plan | None = None) -> Outcome:
        """Labels and trace without touching a pixel."""
        plan = plan or self.plan(image, variant)
        labels = self._labels(plan)
        finish(labels, self.pipeline.labels)
        return Outcome(plan.size, labels.objects, self._trace(plan, labels, variant))

    def render(self, image: str, variant: int) -> tuple[Sample, dict[str, Any]]:
        """One variant whole: its sample, and its trace with the pixel digest."""
        plan = self.plan(image, variant)
        outcome = self.outcome(image, variant, plan)
        return Sample(self.complete(plan, outcome), outcome.objects), outcome.trace

    def complete(self, plan: Plan, outcome: Outcome) -> Pixels:
        """The pixels that belong to an outcome; their digest goes into its trace."""
        pixels = np.ascontiguousarray(self.pixels(plan))
        outcome.trace["pixel_digest"] = fingerprint(pixels)
        return pixels

    def pixels(self, plan: Plan) -> Pixels:
        """Carry a plan out. The result may be a view of a cached picture: not to be written to."""
        return _Run(self, plan).pixels

    def picture_key(self, plan: Plan) -> str:
        """A name for the pixels a plan makes: equal plans on equal sources have equal names."""
        return hashlib.sha256(repr(self._recipe(plan)).encode()).hexdigest()

    def _recipe(self, plan: Plan) -> tuple[object, ...]:
        tiles = [self._recipe(tile) for tile in plan.composite.tiles] if plan.composite else self.dataset.source_digest(plan.image)
        return (
            __version__,
            plan.size,
            tiles,
            [replace(stage, members=[], _exposed=None) if isinstance(stage, Resample) else stage for stage in plan.stages],
        )

    def source(self, image: str) -> Pixels:
        """A decoded source picture, kept for its next variant."""
        return self.cache.get((self.dataset.source_digest(image), 0, 0), lambda: self.dataset.pixels(image))

    def source_halved(self, image: str, times: int) -> Pixels:
        """A source picture at a half, a quarter … of its size, kept like the picture itself."""
        if times == 0:
            return self.source(image)
        return self.cache.get((self.dataset.source_digest(image), "half", times), lambda: halved(self.source_halved(image, times - 1)))

    def source_shrunk(self, image: str, width: int, height: int) -> Pixels:
        """A source picture at a smaller size, kept like the picture itself."""
        return self.cache.get((self.dataset.source_digest(image), width, height), lambda: shrunk(self.source(image), width, height))

    def _labels(self, plan: Plan) -> Labels:
        rules = self.pipeline.labels
        if plan.composite:
            groups = [self._labels(tile) for tile in plan.composite.tiles]
            for partner in groups[1:]:
                partner.forget_unseen(plan.composite.step)
            labels = Labels.join(groups)
        else:
            labels = start(self.dataset.entries[plan.image].objects, rules)
        for stage in plan.stages:
            if isinstance(stage, Resample):
                carry(labels, stage, rules, self.dataset.swap)
        return labels

    def _trace(self, plan: Plan, labels: Labels, variant: int) -> dict[str, Any]:
        clipped = [fate for fate in labels.fates() if fate.outcome == "clipped"]
        return {
            "image": plan.image,
            "source_sha256": self.dataset.source_digest(plan.image),
            "seed": self.pipeline.seed,
            "variant": variant,
            "steps": plan.steps,
            "passes": plan.passes,
            "size": [plan.size.width, plan.size.height],
            "blank_share": round(plan.blank_share, 4),
            "objects": {
                "kept": len(labels.objects) - len(clipped),
                "clipped": len(clipped),
                "clipped_by": [fate.to_json() for fate in clipped],
                "dropped": [fate.to_json() for fate in labels.dropped],
            },
        }


class _Run:
    """One plan being carried out; `owned` says whether `pixels` may be written to."""

    def __init__(self, renderer: Renderer, plan: Plan, canvas: Pixels | None = None) -> None:
        self.renderer, self.image = renderer, plan.image
        self.untouched = plan.composite is None
        self.owned = False
        if plan.composite:
            width, height = plan.composite.size
            self.pixels = np.empty((height, width, 3), np.uint8)
            self.owned = True
            for tile in plan.composite.tiles:
                _Run(renderer, tile, self.pixels)
        else:
            self.pixels = renderer.source(plan.image)
        for place, stage in enumerate(plan.stages):
            last = canvas if place == len(plan.stages) - 1 else None
            match stage:
                case Resample():
                    self._resample(stage, last)
                case Recolor():
                    self._own()
                    recolor(self.pixels, (0, 0, self.pixels.shape[1], self.pixels.shape[0]), stage.matrix)
                case Blur():
                    self.pixels, self.owned = gaussian(self.pixels, stage.sigma), True
            self.untouched = False

    def _own(self) -> None:
        """Make `pixels` a contiguous array of our own."""
        self.pixels = np.ascontiguousarray(self.pixels) if self.owned else self.pixels.copy()
        self.owned = True

    def _resample(self, run: Resample, canvas: Pixels | None) -> None:
        if run.lossless and run.window is None and canvas is None:
            self.pixels = moved_view(self.pixels, run.matrix, run.target)
        else:
            out = np.empty((run.size.height, run.size.width, 3), np.uint8) if canvas is None else canvas
            if canvas is None and run.window is not None:
                fill_outside(out, run.window, run.pad_color)
            self._sample(run, out)
            self.pixels, self.owned = out, True
        if run.color is not None:
            self._own()
            recolor(self.pixels, run.target, run.color.matrix)

    def _sample(self, run: Resample, out: Pixels) -> None:
        matrix, (x0, y0, x1, y1) = run.matrix, run.target
        if run.lossless:
            out[y0:y1, x0:x1] = moved_view(self.pixels, matrix, run.target)
            return
        source, matrix = self._halved(matrix)
        if matrix.upright() and run.exposed == 0.0:
            resample(source, out, run.target, (matrix.a, matrix.e), (matrix.c, matrix.f))
        else:
            source, matrix = self._shrunk(source, matrix)
            warp(source, matrix.inverse(), out, run.target, run.edges, run.edge_color)

    def _halved(self, matrix: Matrix) -> tuple[Pixels, Matrix]:
        """The picture halved as often as the move shrinks it to a half or less, and what is left of the move.

        Means of four are quick, and the halves of a source serve all its variants.
        """
        height, width = self.pixels.shape[:2]
        times = 0
        while max(_stretch(matrix)) <= 0.5 and width % 2 == 0 and height % 2 == 0:
            width, height, times, matrix = width // 2, height // 2, times + 1, scaling(2.0, 2.0).then(matrix)
        if self.untouched:
            return self.renderer.source_halved(self.image, times), matrix
        smaller = self.pixels
        for _ in range(times):
            smaller = halved(smaller)
        return smaller, matrix

    def _shrunk(self, source: Pixels, matrix: Matrix) -> tuple[Pixels, Matrix]:
        """The picture made smaller first where the move shrinks it, and what is left of the move."""
        height, width = source.shape[:2]
        across, down = _stretch(matrix)
        if across >= MILD and down >= MILD:
            return source, matrix
        size = (max(1, round(width * _level(across))), max(1, round(height * _level(down))))
        if self.untouched and source is self.pixels:
            smaller = self.renderer.source_shrunk(self.image, *size)
        else:
            smaller = shrunk(source, *size)
        return smaller, scaling(width / size[0], height / size[1]).then(matrix)


def _stretch(matrix: Matrix) -> tuple[float, float]:
    """How long one pixel's width and height become."""
    return math.hypot(matrix.a, matrix.d), math.hypot(matrix.b, matrix.e)


def _level(factor: float) -> float:
    """The quarter octave at or above a shrinking factor, so that variants can share it."""
    return 1.0 if factor >= MILD else 2.0 ** (-math.floor(-4.0 * math.log2(factor)) / 4.0)
