"""Making one variant: (dataset, pipeline, image, variant) to pixels, labels and trace.

The same code serves the contact sheet and the export, so a tile shows exactly the pixels
that would be written.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from varlen._version import __version__
from varlen.datasets.dataset import Dataset
from varlen.errors import RenderError
from varlen.kernels.compositing import blend, fill_areas, paste_over
from varlen.kernels.pixel_digest import pixel_digest
from varlen.kernels.recolor import recolor
from varlen.kernels.resample import fill_outside, halved, moved_view, resample, shrunk
from varlen.kernels.warp_affine import Pixels, warp
from varlen.kernels.warp_mapped import warp_mapped
from varlen.labels.label_maps import label_map_of
from varlen.labels.occlusion import object_opacity
from varlen.labels.oriented import settle_oriented
from varlen.labels.outcomes import LabelState
from varlen.labels.propagate import labels_of, pasted_labels
from varlen.labels.transform import drop_small, swaps_sides
from varlen.model.effects import PixelOperation
from varlen.model.geometry import Matrix, Size, scaling
from varlen.model.objects import Objects, Sample
from varlen.pipeline.document import Pipeline
from varlen.pipeline.draw_sources import RecordedDraws
from varlen.pipeline.plan import Colors, Mixed, Painted, Pasted, Patched, Plan, Resample, Stage, Tiled, color_passes
from varlen.pipeline.trace import StepRecord, Trace
from varlen.render.planner import plan_variant
from varlen.render.source_pictures import PictureCache, _stretch, after_shrinking, smaller_size, stretch
from varlen.steps.color import saturation_matrix


@dataclass(frozen=True, slots=True)
class VariantLabels:
    """What a variant holds besides its pixels: size, objects, image-level classes, and the trace that explains it."""

    size: Size
    objects: Objects
    classes: dict[str, float]
    trace: Trace


class Renderer:
    """Makes variants of a dataset's images under one pipeline."""

    def __init__(self, dataset: Dataset, pipeline: Pipeline, cache: PictureCache | None = None) -> None:
        self.dataset, self.pipeline = dataset, pipeline
        self.cache = cache or PictureCache()

    def plan(self, image: str, variant: int) -> Plan:
        """Draw and plan one variant; variant 0 is the original through the `every` steps alone."""
        return plan_variant(self.pipeline, self.dataset, image, self.dataset.entries[image].split, variant)

    def replan(self, trace: Trace) -> Plan:
        """The plan described by a trace, with nothing drawn again. Raises `RenderError` when the trace does not fit the pipeline."""
        image = trace["image"]
        if image not in self.dataset.entries:
            raise RenderError(f"{image}: the dataset has no such image")
        split = self.dataset.entries[image].split
        return plan_variant(self.pipeline, self.dataset, image, split, trace["variant"], RecordedDraws(trace["steps"]))

    def variant_labels(self, image: str, variant: int, plan: Plan | None = None) -> VariantLabels:
        """Labels and trace without touching a pixel."""
        plan = plan or self.plan(image, variant)
        labels = self.labels(plan)
        return VariantLabels(plan.size, labels.objects, self.classes(plan), self.trace_of(plan, labels, variant))

    def labels(self, plan: Plan) -> LabelState:
        """The labels of a variant and their fates."""
        labels = labels_of(plan, self.dataset, self.pipeline.labels)
        drop_small(labels, self.pipeline.labels)
        settle_oriented(labels)
        return labels

    def render(self, image: str, variant: int) -> tuple[Sample, Trace]:
        """One variant whole: its sample, and its trace with the pixel digest."""
        plan = self.plan(image, variant)
        outcome = self.variant_labels(image, variant, plan)
        return Sample(self.render_pixels(plan, outcome), outcome.objects, self.label_map(plan), outcome.classes), outcome.trace

    def label_map(self, plan: Plan) -> NDArray[np.uint8] | None:
        """The class of every pixel of a variant, (H, W) uint8; None where its own picture has no label map."""
        return label_map_of(plan, self.dataset, self.pipeline.labels)

    def render_pixels(self, plan: Plan, outcome: VariantLabels) -> Pixels:
        """The pixels that belong to an outcome; their digest goes into its trace."""
        pixels = np.ascontiguousarray(self.pixels(plan))
        if plan.gray:
            pixels = lightness(pixels)
        outcome.trace["pixel_digest"] = pixel_digest(pixels)
        return pixels

    def pixels(self, plan: Plan) -> Pixels:
        """Carry a plan out. The result may be a view of a cached picture: not to be written to."""
        return _PlanRun(self, plan).pixels

    def moved_pixels(self, plan: Plan, pixels: Pixels, fill: int) -> Pixels:
        """Only the moves of a plan without partners, done to other pixels of the picture's size, (H, W, 3); `fill` where no source pixel is."""
        color = (fill, fill, fill)
        moves: list[Stage] = [replace(stage, colors=(), edge_color=color, pad_color=color) for stage in plan.stages if isinstance(stage, Resample)]
        return _PlanRun(self, replace(plan, stages=moves), pixels=pixels).pixels

    def picture_key(self, plan: Plan) -> str:
        """A name for the pixels a plan makes: equal plans on equal sources have equal names."""
        return hashlib.sha256(repr(self._recipe(plan)).encode()).hexdigest()

    def _recipe(self, plan: Plan) -> tuple[object, ...]:
        base: object
        match plan.base:
            case Tiled(tiles=tiles):
                base = [self._recipe(tile) for tile in tiles]
            case Mixed(own=own, partner=partner, weight=weight):
                base = [self._recipe(own), self._recipe(partner), weight]
            case Pasted(own=own, objects=objects):
                base = [self._recipe(own), *((self._recipe(each.plan), each.image, each.id) for each in objects)]
            case None:
                base = self.dataset.source_digest(plan.image)
        return (__version__, plan.size, base, [self._stage_recipe(stage) for stage in plan.stages])

    def _stage_recipe(self, stage: Stage) -> object:
        match stage:
            case Resample():
                return replace(stage, members=[], _exposed=None)
            case PixelOperation(step=step, values=values):
                return step.step, getattr(step, "source_digest", ""), values
            case Painted(cover=cover):
                return cover
            case Patched(patches=patches):
                return [(patch.rect, [self._stage_recipe(each) for each in patch.plan.stages]) for patch in patches]
            case _:
                return stage

    def kept_as(self, image: str) -> str:
        """What a source's pictures are kept under: its content, which several datasets may share."""
        return self.dataset.source_digest(image)

    def source(self, image: str) -> Pixels:
        """A decoded source picture, kept for its next variant."""
        return self.cache.get((self.kept_as(image), 0, 0), lambda: self.dataset.pixels(image))

    def source_halved(self, image: str, times: int) -> Pixels:
        """A source picture at a half, a quarter … of its size, kept like the picture itself."""
        if times == 0:
            return self.source(image)
        return self.cache.get((self.kept_as(image), "half", times), lambda: halved(self.source_halved(image, times - 1)))

    def source_shrunk(self, image: str, width: int, height: int) -> Pixels:
        """A source picture at a smaller size, kept like the picture itself."""
        return self.cache.get((self.kept_as(image), width, height), lambda: shrunk(self.source(image), width, height))

    def classes(self, plan: Plan) -> dict[str, float]:
        """Image-level classes and how much of the picture stands for each."""
        match plan.base:
            case Tiled(tiles=tiles, size=size):
                windows = [tile.last_window() for tile in tiles]
                shares = [(x1 - x0) * (y1 - y0) / (size.width * size.height) for x0, y0, x1, y1 in windows]
                parts = list(zip(tiles, shares, strict=True))
            case Mixed(own=own, partner=partner, weight=weight):
                parts = [(own, weight), (partner, 1.0 - weight)]
            case Pasted(own=own):
                parts = [(own, 1.0)]
            case None:
                return self._mirrored(plan, dict.fromkeys(self.dataset.entries[plan.image].classes, 1.0))
        found: dict[str, float] = {}
        for part, share in parts:
            for name, weight in self.classes(part).items():
                found[name] = found.get(name, 0.0) + share * weight
        return self._mirrored(plan, {name: round(weight, 6) for name, weight in sorted(found.items())})

    def _mirrored(self, plan: Plan, classes: dict[str, float]) -> dict[str, float]:
        """Image-level classes after the mirrors of a plan."""
        partners = self.dataset.mirror_classes
        if partners and sum(isinstance(stage, Resample) and swaps_sides(stage) for stage in plan.stages) % 2:
            return {partners.get(name, name): share for name, share in classes.items()}
        return classes

    def trace_of(self, plan: Plan, labels: LabelState, variant: int) -> Trace:
        """What was drawn for a variant and what became of its objects, without the digest of its pixels."""
        clipped = [outcome for outcome in labels.outcomes() if outcome.outcome == "clipped"]
        trace: Trace = {
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
                "clipped_by": [outcome.to_json() for outcome in clipped],
                "dropped": [outcome.to_json() for outcome in labels.dropped],
            },
        }
        if partners := set(_partners(plan.steps)):
            trace["partners_sha256"] = {key: self.dataset.source_digest(key) for key in sorted(partners)}
        return trace


class OwnRenderer(Renderer):
    """Its pictures are of one dataset, so their keys name them and nothing need be hashed."""

    def kept_as(self, image: str) -> str:
        return image


class _PlanRun:
    """One plan being carried out; `owned` says whether `pixels` may be written to."""

    def __init__(self, renderer: Renderer, plan: Plan, canvas: Pixels | None = None, pixels: Pixels | None = None) -> None:
        """`canvas`: where the last resample goes to; `pixels`: what to begin with instead of the plan's own source."""
        self.renderer, self.image = renderer, plan.image
        self.untouched = plan.base is None and pixels is None
        self.owned = plan.base is not None or pixels is not None
        self.pixels = self._base(plan) if pixels is None else pixels
        for place, stage in enumerate(plan.stages):
            last = canvas if place == len(plan.stages) - 1 else None
            match stage:
                case Resample():
                    self._resample(stage, last)
                case PixelOperation():
                    self._own()
                    self.pixels = self._applied(stage)
                case Painted(cover=cover):
                    self._own()
                    fill_areas(self.pixels, cover)
                case Patched(patches=patches):
                    self._own()
                    for patch in patches:
                        x0, y0, x1, y1 = patch.rect
                        self.pixels[y0:y1, x0:x1] = _PlanRun(renderer, patch.plan, pixels=self.pixels[y0:y1, x0:x1].copy()).pixels
                case colors:
                    self._own()
                    self._recolor((0, 0, self.pixels.shape[1], self.pixels.shape[0]), colors)
            self.untouched = False

    def _base(self, plan: Plan) -> Pixels:
        match plan.base:
            case Tiled(tiles=tiles, size=size):
                pixels = np.empty((size.height, size.width, 3), np.uint8)
                for tile in tiles:
                    _PlanRun(self.renderer, tile, pixels)
                return pixels
            case Mixed(own=own, partner=partner, weight=weight):
                return blend(_PlanRun(self.renderer, own).pixels, _PlanRun(self.renderer, partner).pixels, weight)
            case Pasted():
                return self._pasted(plan.base)
            case None:
                return self.renderer.source(plan.image)

    def _pasted(self, pasted: Pasted) -> Pixels:
        """The picture with the objects laid over it one after another; their borders are smooth."""
        own = _PlanRun(self.renderer, pasted.own)
        own._own()
        for each in pasted.objects:
            guest = pasted_labels(each, self.renderer.dataset, self.renderer.pipeline.labels)
            if guest is None:
                continue
            other = np.empty_like(own.pixels)
            _PlanRun(self.renderer, each.plan, other)
            opacity, left, top = object_opacity(guest.objects, each.plan.last_window())
            paste_over(own.pixels, other, opacity, left, top)
        return own.pixels

    def _applied(self, detail: PixelOperation) -> Pixels:
        """A step's own pixels, checked: what an outside step gives back must be a picture of the same size."""
        shape = self.pixels.shape
        made = detail.step.apply(self.pixels, detail.values)
        if not isinstance(made, np.ndarray) or made.dtype != np.uint8 or made.shape != shape:
            found = f"{made.dtype} {made.shape}" if isinstance(made, np.ndarray) else type(made).__name__
            raise RenderError(f"step {detail.step.id}: must give back uint8 {shape}, not {found}")
        return made

    def _own(self) -> None:
        """Make `pixels` a contiguous array of our own."""
        self.pixels = np.ascontiguousarray(self.pixels) if self.owned else self.pixels.copy()
        self.owned = True

    def _recolor(self, window: tuple[int, int, int, int], colors: Colors) -> None:
        for group in color_passes(colors):
            recolor(self.pixels, window, group)

    def _resample(self, run: Resample, canvas: Pixels | None) -> None:
        if run.lossless and run.window is None and canvas is None:
            self.pixels = moved_view(self.pixels, run.matrix, run.target)
        else:
            out = np.empty((run.size.height, run.size.width, 3), np.uint8) if canvas is None else canvas
            if canvas is None and run.window is not None:
                fill_outside(out, run.window, run.pad_color)
            self._sample(run, out)
            self.pixels, self.owned = out, True
        if run.colors:
            self._own()
            self._recolor(run.target, run.colors)

    def _sample(self, run: Resample, out: Pixels) -> None:
        matrix, (x0, y0, x1, y1) = run.matrix, run.target
        if run.lossless:
            out[y0:y1, x0:x1] = moved_view(self.pixels, matrix, run.target)
        elif run.bends or not matrix.affine:
            self._sample_mapped(run, out)
        else:
            source, matrix = self._halved(matrix)
            if matrix.upright() and run.exposed == 0.0:
                resample(source, out, run.target, (matrix.a, matrix.e), (matrix.c, matrix.f))
            else:
                source, matrix = self._shrunk(source, matrix)
                warp(source, matrix.inverse(), out, run.target, run.edges, run.edge_color)

    def _sample_mapped(self, run: Resample, out: Pixels) -> None:
        """Through a perspective or a bend; where that shrinks everywhere, the picture is made smaller first."""
        source = self.pixels
        height, width = source.shape[:2]
        size = smaller_size(Size(width, height), stretch(run))
        if size is None:
            warp_mapped(source, run.bends, run.matrix, out, run.target, run.edges, run.edge_color)
            return
        smaller = self.renderer.source_shrunk(self.image, *size) if self.untouched else shrunk(source, *size)
        warp_mapped(smaller, *after_shrinking(run, Size(width, height), size), out, run.target, run.edges, run.edge_color)

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
        size = smaller_size(Size(width, height), _stretch(matrix))
        if size is None:
            return source, matrix
        if self.untouched and source is self.pixels:
            smaller = self.renderer.source_shrunk(self.image, *size)
        else:
            smaller = shrunk(source, *size)
        return smaller, scaling(width / size[0], height / size[1]).then(matrix)


def _partners(steps: Sequence[StepRecord]) -> Iterator[str]:
    """The other images a variant is made from, and those they are made from."""
    for step in steps:
        for partner in step.get("partners", ()):
            yield partner["image"]
            yield from _partners(partner["steps"])


def lightness(pixels: Pixels) -> Pixels:
    """(H, W, 1) from (H, W, 3) uint8: 0.299 r + 0.587 g + 0.114 b (ITU-R BT.601)."""
    gray = np.ascontiguousarray(pixels).copy()
    recolor(gray, (0, 0, gray.shape[1], gray.shape[0]), (saturation_matrix(0.0),))
    return np.ascontiguousarray(gray[:, :, :1])
