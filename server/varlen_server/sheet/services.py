"""What an order costs, measured once for all who ask."""

from __future__ import annotations

import contextlib
import os
from collections import Counter
from functools import lru_cache, partial
from pathlib import Path
from typing import Any

import numpy as np
import orjson
from django.conf import settings
from numpy.typing import NDArray
from rest_framework.exceptions import NotFound, ValidationError
from rest_framework.generics import get_object_or_404
from varlen.editions.allotment import Allotment
from varlen.editions.export_spec import TRAINING, ExportSpec
from varlen.errors import RenderError
from varlen.forecasts.advice import advice_on
from varlen.forecasts.affine_plans import Tally
from varlen.forecasts.expected_counts import cost_of_one, expected_labels, seconds_for
from varlen.forecasts.label_forecast import count_draws, forecast
from varlen.forecasts.limits import largest_range
from varlen.forecasts.worst_variants import By, worst_variants
from varlen.pipeline.document import from_json
from varlen.pipeline.plan import Plan, Resample
from varlen.render.back import points_back
from varlen.render.renderer import Renderer
from varlen.shapes.objects_json import objects_to_json
from varlen.steps import CATALOGUE

from varlen_server.content_store import link_as
from varlen_server.datasets.models import Dataset, Image
from varlen_server.pipelines.models import register
from varlen_server.previews import cached_json, cached_picture, preview
from varlen_server.sheet.render_pool import yield_to_foreground
from varlen_server.sheet.renderers import renderer_for, renderer_of

#: Images made to tell.
MEASURED = 4


def cost_of(renderer: Renderer, dataset_digest: str, spec: ExportSpec, allotment: Allotment) -> dict[str, float]:
    """`bytes` and `seconds`, on all cores of this machine, of an edition.

    Of one image it is measured once for a dataset, a pipeline and a form of pictures, so that all who ask hear the same.
    """
    varied = sorted((split, (spec.allots and split == TRAINING) or any(spec.variants_for(split))) for split in allotment.keys)
    asked = [dataset_digest, renderer.pipeline.digest, spec.format, spec.image, spec.quality, varied]
    size, seconds = orjson.loads(cached_json("costs", asked, lambda: cost_of_one(renderer, spec, allotment, MEASURED)))
    total = sum(allotment.counts().values())
    return {"bytes": round(size * total), "seconds": seconds_for(total, seconds, os.cpu_count() or 1)}


#: Variants whose labels are followed for the ledger.
SAMPLE = 96

Tile = dict[str, Any]


class Bench:
    """A dataset and a pipeline side by side: what every question of the bench is about."""

    def __init__(self, dataset: int, document: dict[str, Any]) -> None:
        """Raises `Http404` for a dataset that is not here, `PipelineError` for a document that can't be used."""
        self.dataset = dataset_of(dataset)
        self.pipeline = from_json(document)
        register(self.pipeline)
        self.renderer = renderer_of(self.dataset.pk, self.dataset.digest, self.pipeline)

    @property
    def key(self) -> list[str]:
        """What the answers depend on: dataset snapshot and pipeline."""
        return [self.dataset.digest, self.pipeline.digest]

    def ledger(self, spec: ExportSpec) -> dict[str, Any]:
        """Exact image counts of an edition, its labels of each class, and what becomes of objects over a sample of variants."""
        dataset = self.renderer.dataset
        spec = spec.for_dataset(dataset)
        allotment = Allotment(dataset, spec, self.pipeline.seed)
        counts = allotment.counts()
        # The sample depends on neither the number of variants nor the originals.
        sampled = orjson.loads(cached_json("ledgers-5", self.key, partial(_sampled_losses, self.renderer)))
        kept = sampled.pop("kept_shares")
        labels = [
            {"name": name, "before": both["before"], "after": round(both["after"] * kept.get(name, 1.0))}
            for name, both in expected_labels(dataset, allotment).items()
        ]
        return {
            "counts": counts,
            "class_objects": labels,
            "total": sum(counts.values()),
            **sampled,
            **cost_of(self.renderer, self.dataset.digest, spec, allotment),
        }

    def forecast(self, draws: int) -> bytes:
        """What becomes of labels over many draws, as JSON."""

        def make() -> dict[str, Any]:
            found = forecast(self.renderer.dataset, self.pipeline, draws)
            return {**found, "classes": _listed(found["classes"]), "steps": _listed(found["steps"])}

        return cached_json("forecasts-2", [*self.key, draws], make)

    def limit(self, parameter: str, lose_at_most: float, draws: int) -> bytes:
        """The largest symmetric range of a parameter, as JSON (see `largest_range`)."""
        make = partial(largest_range, self.renderer.dataset, self.pipeline, parameter, lose_at_most, draws)
        return cached_json("limits", [*self.key, parameter, lose_at_most, draws], make)

    def worst(self, by: By, count: int) -> list[dict[str, Any]]:
        """Images with the variants in which the pipeline does worst, the worst first."""

        def make() -> list[list[Any]]:
            return [list(each) for each in worst_variants(self.renderer, by, count, yield_to_foreground)]

        found = orjson.loads(cached_json("worst", [*self.key, by, count], make))
        images = {image.key: image for image in self.dataset.images.filter(key__in=[key for key, _, _ in found], left_out=False)}
        return [{"image": images[key], "variant": variant, "value": value} for key, variant, value in found if key in images]

    def advice(self) -> bytes:
        """What is allowed in this pipeline but rarely intended, as JSON."""

        def make() -> list[dict[str, Any]]:
            return [each.to_json() for each in advice_on(self.renderer.dataset, self.pipeline, self.dataset.marks, yield_to_foreground)]

        return cached_json("notes", [*self.key, self.dataset.marks], make)


def tile_facts(dataset: int, snapshot: str, renderer: Renderer, image: int, key: str, variant: int) -> tuple[Tile, Plan | None]:
    """Labels and trace of one variant without its picture, and its plan; None for one that can't be made. Numbers of objects are arrays."""
    address = f"/api/tiles/{dataset}/{snapshot[7:]}/{renderer.pipeline.digest[7:]}/{image}/{variant}"
    try:
        plan = renderer.plan(key, variant)
        found = renderer.variant_labels(key, variant, plan)
    except RenderError as error:
        return refused(renderer, key, variant, str(error)), None
    objects = objects_to_json(found.objects, renderer.dataset.classes, arrays=True, digits=3)
    size = found.size
    return {"variant": variant, "address": address, "picture": "", "picture_width": 0, "width": size.width, "height": size.height,
            "objects": objects, "classes": found.classes, "trace": found.trace,
            "loose": round(float(found.objects.growth.max(initial=1.0)), 3), "error": ""}, plan  # fmt: skip


def refused(renderer: Renderer, key: str, variant: int, reason: str) -> Tile:
    """A tile that can't be made, in the form of the others."""
    size = renderer.dataset.size_of(key)
    trace = {"image": key, "seed": renderer.pipeline.seed, "variant": variant, "steps": [], "passes": 0, "size": list(size), "blank_share": 0.0,
             "objects": {"kept": 0, "clipped": 0, "clipped_by": [], "dropped": []}}  # fmt: skip
    return {"variant": variant, "address": "", "picture": "", "picture_width": 0, "width": size.width, "height": size.height, "objects": [],
            "classes": {}, "trace": trace, "loose": 1.0, "error": reason}  # fmt: skip


def tile_picture(dataset: int, snapshot: str, pipeline: str, image: int, variant: int, width: int) -> bytes:
    """A tile's picture by its address, as JPEG, at most `width` px wide. Raises `NotFound`."""
    asked = asked_path(_digest(snapshot), _digest(pipeline), image, variant, width)
    kept = kept_picture(asked)
    if kept is not None:
        return kept
    renderer, key = _addressed(dataset, snapshot, pipeline, image)
    return exact_picture(renderer, renderer.plan(key, variant), width, asked)


def kept_picture(asked: Path) -> bytes | None:
    """A tile's exact picture, where it was asked for before."""
    try:
        return asked.read_bytes()
    except FileNotFoundError:
        return None


def asked_path(snapshot: str, pipeline: str, image: int, variant: int, width: int) -> Path:
    """Where a tile's picture is found without a plan, by the digests and numbers of its address."""
    path: Path = settings.TILES / "asked" / snapshot[7:23] / pipeline[7:] / f"{image}-{variant}-{width}.jpg"
    return path


def _digest(named: str) -> str:
    """A digest as it stands in an address, with the kind it is of before it."""
    return f"sha256:{named}"


def tile_label_map(dataset: int, snapshot: str, pipeline: str, image: int, variant: int) -> Any:
    """A tile's label map by its address, (H, W) uint8 or None. Raises `NotFound`."""
    renderer, key = _addressed(dataset, snapshot, pipeline, image)
    return renderer.label_map(renderer.plan(key, variant))


def tile_trace(dataset: int, snapshot: str, pipeline: str, image: int, variant: int) -> dict[str, Any]:
    """A tile's trace by its address, with the digest of the full-size pixels. Raises `NotFound`."""
    renderer, key = _addressed(dataset, snapshot, pipeline, image)
    return dict(renderer.render(key, variant)[1])


def tile_pixel(dataset: int, snapshot: str, pipeline: str, image: int, variant: int, x: int, y: int) -> dict[str, Any]:
    """The pixel in column `x`, row `y` of a tile's variant, and the one that it comes from. Raises `NotFound`, `ValidationError`."""
    renderer, key = _addressed(dataset, snapshot, pipeline, image)
    plan, pixels = _rendered(renderer, key, variant)
    if not (x < pixels.shape[1] and y < pixels.shape[0]):
        raise ValidationError(f"The variant is {pixels.shape[1]}×{pixels.shape[0]} px.")
    points, (whose,) = points_back(plan, np.array([[x + 0.5, y + 0.5]]), renderer.dataset.size_of)
    source = None
    if whose:
        across, down = points[0].tolist()
        size = renderer.dataset.size_of(whose)
        column, row = min(int(across), size.width - 1), min(int(down), size.height - 1)
        source = {"key": whose, "x": round(across, 2), "y": round(down, 2), "levels": renderer.source(whose)[row, column].tolist()}
    return {"x": x, "y": y, "levels": pixels[y, x].tolist(), "source": source}


@lru_cache(maxsize=4)
def _rendered(renderer: Renderer, key: str, variant: int) -> tuple[Plan, NDArray[np.uint8]]:
    """The last variants that were pointed at, whole."""
    plan = renderer.plan(key, variant)
    return plan, renderer.pixels(plan)


def tile_moves(dataset: int, snapshot: str, pipeline: str, image: int, variant: int) -> list[dict[str, Any]]:
    """The resamples of a tile's variant: their steps, the composed matrix as rows, and whether a bend comes before it. Raises `NotFound`."""
    renderer, key = _addressed(dataset, snapshot, pipeline, image)
    runs = [stage for stage in renderer.plan(key, variant).stages if isinstance(stage, Resample)]
    return [{"steps": [member.step for member in run.members], "matrix": np.array(run.matrix).reshape(3, 3).tolist(), "bent": bool(run.bends)}
            for run in runs]  # fmt: skip


def _addressed(dataset: int, snapshot: str, pipeline: str, image: int) -> tuple[Renderer, str]:
    return renderer_for(dataset, _digest(snapshot), _digest(pipeline)), key_of(image, dataset)


@lru_cache(maxsize=4096)
def key_of(image: int, dataset: int) -> str:
    """An image's path in its dataset; neither ever changes."""
    found = Image.objects.filter(pk=image, dataset=dataset).values_list("key", flat=True).first()
    if found is None:
        raise NotFound("There is no such image.")
    return found


def dataset_of(pk: int) -> Dataset:
    found: Dataset = get_object_or_404(Dataset.objects.only("digest", "marks"), pk=pk)
    return found


def _picture_path(renderer: Renderer, plan: Plan, width: int) -> Path:
    """Where a variant's picture is kept: by what is done to the pixels, so that a changed step costs only the tiles on which it happens."""
    name = renderer.picture_key(plan)
    path: Path = settings.TILES / "made" / name[:2] / f"{name}-{width}.jpg"
    return path


def exact_picture(renderer: Renderer, plan: Plan, width: int, asked: Path) -> bytes:
    """A variant's picture as JPEG, at most `width` px wide: the full-size picture made smaller. It is kept under its address `asked`, too."""
    path = _picture_path(renderer, plan, width)
    found = cached_picture(path, lambda: preview(renderer.pixels(plan), width))
    with contextlib.suppress(OSError):  # no room, or the picture was not kept: it is found by its pixels' name next time
        link_as(path, asked)
    return found


def runs_of(dataset: int, snapshot: str, renderer: Renderer) -> bytes:
    """Which steps share a resample, as JSON, from the disk or found now."""
    return cached_json("runs", [dataset, snapshot, renderer.pipeline.digest], partial(shared_resamples, renderer))


def shared_resamples(renderer: Renderer) -> list[dict[str, list[str]]]:
    """Which steps share one resample when every step but the composites happens."""
    form = renderer.pipeline.to_json()
    steps = [{**step, "probability": 1} for step in form["steps"] if CATALOGUE[step["step"]].kind != "composite"]
    certain = from_json({**form, "steps": steps})
    images = renderer.dataset.by_split().get("train") or list(renderer.dataset.entries)
    try:
        plan = Renderer(renderer.dataset, certain, renderer.cache).plan(images[0], 1)
    except RenderError:
        return []
    runs = [stage for stage in plan.stages if isinstance(stage, Resample) and len(stage.members) > 1]
    return [{"steps": [member.step for member in run.members]} for run in runs]


def _sampled_losses(renderer: Renderer) -> dict[str, Any]:
    """What becomes of objects over a sample of variants, from labels alone."""
    tally = count_draws(renderer, SAMPLE, lambda done: yield_to_foreground()) if renderer.dataset.by_split().get("train") else Tally()
    blame: Counter[str] = Counter()
    for (_, step), count in tally.dropped.items():
        blame[step] += count
    clipped = tally.clipped.total()
    sampled = max(tally.variants, 1)
    passes = sum(number * times for number, times in tally.passes.items())
    shares = {name: tally.kept[name] / count for name, count in tally.before.items()}
    return {"kept_shares": shares, "sampled": tally.variants, "kept": tally.kept.total() - clipped, "clipped": clipped, "dropped": blame.total(),
            "blame": [{"step": step, "count": count} for step, count in blame.most_common()],
            "blank_share": round(sum(tally.blanks) / sampled, 4), "passes": round(passes / sampled, 2)}  # fmt: skip


def _listed(named: dict[str, dict[str, Any]]) -> list[dict[str, Any]]:
    return [{"name": name, **values} for name, values in named.items()]
