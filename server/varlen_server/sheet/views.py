"""A contact sheet: labels and traces of a row in one answer, with small pictures; larger ones at addresses of their own.

A tile's address names dataset snapshot, pipeline, image and variant by content; the seed is
part of the pipeline. So what an address shows never changes and may be kept for ever.
"""

from __future__ import annotations

from base64 import b64encode
from collections import Counter
from functools import lru_cache, partial
from pathlib import Path
from typing import Any

import orjson
from django.conf import settings
from django.http import HttpResponse
from drf_spectacular.utils import extend_schema
from rest_framework.exceptions import NotFound
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.serializers import Serializer
from rest_framework.views import APIView
from varlen.editions.export_spec import ExportSpec
from varlen.errors import RenderError
from varlen.forecast.advice import advice_on
from varlen.forecast.label_forecast import Tally, count_draws, forecast
from varlen.forecast.limits import largest_range
from varlen.pipeline.document import Pipeline, from_json
from varlen.pipeline.plan import Plan, Resample
from varlen.render.renderer import Renderer
from varlen.shapes.objects_json import objects_to_json
from varlen.steps import CATALOGUE

from varlen_server import store
from varlen_server.answers import kept
from varlen_server.datasets.models import Dataset, Image
from varlen_server.datasets.serializers import MessageSerializer
from varlen_server.pipelines.library import register
from varlen_server.previews import check_width, map_response, picture_response, preview
from varlen_server.sheet.cost import cost_of_one, seconds_for
from varlen_server.sheet.renderers import renderer_for, renderer_of
from varlen_server.sheet.serializers import (
    ForecastRequestSerializer,
    ForecastSerializer,
    LedgerRequestSerializer,
    LedgerSerializer,
    LimitRequestSerializer,
    LimitSerializer,
    NoteSerializer,
    NotesRequestSerializer,
    SheetRequestSerializer,
    SheetSerializer,
    StripRequestSerializer,
    StripSerializer,
    TraceSerializer,
)
from varlen_server.sheet.turns import give_way, looked_at

SAMPLE = 96


def _dataset(pk: int) -> Dataset:
    return get_object_or_404(Dataset.objects.only("digest", "marks"), pk=pk)


def _renderer(dataset_id: int, document: dict[str, Any]) -> tuple[Dataset, Pipeline, Renderer]:
    dataset = _dataset(dataset_id)
    pipeline = from_json(document)
    register(pipeline)
    return dataset, pipeline, renderer_of(dataset.pk, dataset.digest, pipeline)


class Sheet(APIView):
    @extend_schema(request=SheetRequestSerializer, responses={200: SheetSerializer, 422: MessageSerializer}, operation_id="sheet_make")
    def post(self, request: Request) -> HttpResponse:
        """Labels, traces and, where a width is given, pictures of variants 1 … n of some images. A row's answer is always the same, so it is kept."""
        wish, dataset, pipeline, renderer = _asked(request, SheetRequestSerializer)
        images = Image.objects.filter(dataset=dataset, left_out=False).only("key", "split").in_bulk(wish["images"])
        if lost := [pk for pk in wish["images"] if pk not in images]:
            raise NotFound(f"The dataset has no image {lost[0]}.")
        about, variants, width = [dataset.pk, dataset.digest, pipeline.digest], wish["variants"], wish["width"]
        with looked_at():
            rows = [
                kept("rows", [*about, variants, width, pk], partial(_row, dataset, renderer, images[pk], variants, width)) for pk in wish["images"]
            ]
        runs = kept("runs", about, partial(_runs, renderer))
        answer = {"pipeline_digest": pipeline.digest, "rows": [orjson.Fragment(row) for row in rows], "runs": orjson.Fragment(runs)}
        return _json(orjson.dumps(answer))


def _row(dataset: Dataset, renderer: Renderer, image: Image, variants: int, width: int) -> dict[str, Any]:
    # Evaluation images have one output only: the way of the `every` steps.
    numbers = range(1, variants + 1) if image.split == "train" else [0]
    return {"image": image.pk, "tiles": [_tile(dataset, renderer, image.pk, image.key, number, width) for number in numbers]}


class Strip(APIView):
    @extend_schema(request=StripRequestSerializer, responses={200: StripSerializer, 422: MessageSerializer}, operation_id="strip_make")
    def post(self, request: Request) -> HttpResponse:
        """One image's first variant with each of some steps alone."""
        wish = _checked(request, StripRequestSerializer)
        dataset = _dataset(wish["dataset"])
        pipelines = [from_json({**wish["document"], "steps": [step]}) for step in wish["steps"]]
        register(*pipelines)
        renderers = [renderer_of(dataset.pk, dataset.digest, pipeline) for pipeline in pipelines]
        key = key_of(wish["image"], dataset.pk)
        with looked_at():
            tiles = [_tile(dataset, renderer, wish["image"], key, 1, wish["width"]) for renderer in renderers]
        return _json(orjson.dumps({"tiles": tiles}))


def _tile(dataset: Dataset, renderer: Renderer, image: int, key: str, variant: int, width: int) -> dict[str, Any]:
    """Labels and trace of one variant, and its picture where `width` is not 0: a request for each would cost as much as making it."""
    address = f"/api/tiles/{dataset.pk}/{dataset.digest[7:]}/{renderer.pipeline.digest[7:]}/{image}/{variant}"
    try:
        plan = renderer.plan(key, variant)
        outcome = renderer.variant_labels(key, variant, plan)
        picture = "data:image/jpeg;base64," + b64encode(_made(renderer, plan, width).read_bytes()).decode() if width else ""
    except RenderError as error:
        return _refused(renderer, key, variant, str(error))
    objects = objects_to_json(outcome.objects, renderer.dataset.classes, digits=3)
    size = outcome.size
    return {"variant": variant, "address": address, "picture": picture, "picture_width": width, "width": size.width, "height": size.height,
            "objects": objects, "trace": outcome.trace, "loose": round(float(outcome.objects.growth.max(initial=1.0)), 3), "error": ""}  # fmt: skip


def _refused(renderer: Renderer, key: str, variant: int, reason: str) -> dict[str, Any]:
    """A tile that can't be made, in the form of the others."""
    size = renderer.dataset.size_of(key)
    trace = {"image": key, "seed": renderer.pipeline.seed, "variant": variant, "steps": [], "passes": 0, "size": list(size), "blank_share": 0.0,
             "objects": {"kept": 0, "clipped": 0, "clipped_by": [], "dropped": []}}  # fmt: skip
    return {"variant": variant, "address": "", "picture": "", "picture_width": 0, "width": size.width, "height": size.height, "objects": [],
            "trace": trace, "loose": 1.0, "error": reason}  # fmt: skip


def _made(renderer: Renderer, plan: Plan, width: int) -> Path:
    """The file with a variant's picture, at most `width` px wide.

    Kept by what is done to the pixels: a changed step costs only the tiles on which it happens.
    """
    name = renderer.picture_key(plan)
    path: Path = settings.TILES / "made" / name[:2] / f"{name}-{width}.jpg"
    if not path.exists():
        store.write_whole(path, preview(renderer.pixels(plan), width), lasting=False)
    return path


def _runs(renderer: Renderer) -> list[dict[str, list[str]]]:
    """Which steps share one resample when every step but the composites happens."""
    form = renderer.pipeline.to_json()
    steps = [{**step, "probability": 1} for step in form["steps"] if CATALOGUE[step["step"]].kind != "composite"]
    certain = from_json({**form, "steps": steps})
    try:
        plan = Renderer(renderer.dataset, certain, renderer.cache).plan(_training(renderer)[0], 1)
    except RenderError:
        return []
    runs = [stage for stage in plan.stages if isinstance(stage, Resample) and len(stage.members) > 1]
    return [{"steps": [member.step for member in run.members]} for run in runs]


class Tile(APIView):
    @extend_schema(responses={(200, "image/jpeg"): bytes}, operation_id="tiles_picture")
    def get(self, request: Request, dataset: int, snapshot: str, pipeline: str, image: int, variant: int, width: int) -> HttpResponse:
        """One variant's picture as JPEG, at most `width` px wide."""
        check_width(width)
        asked = settings.TILES / "asked" / snapshot[:16] / pipeline / f"{image}-{variant}-{width}.jpg"
        if not asked.exists():
            renderer = renderer_for(dataset, f"sha256:{snapshot}", f"sha256:{pipeline}")
            store.also_as(_made(renderer, renderer.plan(key_of(image, dataset), variant), width), asked)
        return picture_response(asked.read_bytes())


class TileMap(APIView):
    @extend_schema(responses={(200, "image/png"): bytes}, operation_id="tiles_map")
    def get(self, request: Request, dataset: int, snapshot: str, pipeline: str, image: int, variant: int) -> HttpResponse:
        """One variant's label map as a gray PNG of the variant's own size."""
        renderer = renderer_for(dataset, f"sha256:{snapshot}", f"sha256:{pipeline}")
        return map_response(renderer.label_map(renderer.plan(key_of(image, dataset), variant)))


class Trace(APIView):
    @extend_schema(responses=TraceSerializer, operation_id="tiles_trace")
    def get(self, request: Request, dataset: int, snapshot: str, pipeline: str, image: int, variant: int) -> Response:
        """One variant's trace with the digest of its full-size pixels."""
        renderer = renderer_for(dataset, f"sha256:{snapshot}", f"sha256:{pipeline}")
        _, trace = renderer.render(key_of(image, dataset), variant)
        return Response(trace, headers={"Cache-Control": "public, max-age=31536000, immutable"})


@lru_cache(maxsize=4096)
def key_of(image: int, dataset: int) -> str:
    """An image's path in its dataset; neither ever changes."""
    found = Image.objects.filter(pk=image, dataset=dataset).values_list("key", flat=True).first()
    if found is None:
        raise NotFound("There is no such image.")
    return found


class Ledger(APIView):
    @extend_schema(request=LedgerRequestSerializer, responses={200: LedgerSerializer, 422: MessageSerializer}, operation_id="ledger_make")
    def post(self, request: Request) -> Response:
        """What an edition of this would hold."""
        wish, dataset, pipeline, renderer = _asked(request, LedgerRequestSerializer)
        order = ExportSpec(wish["variants"], wish["originals"])
        counts = order.counts(renderer.dataset.images_by_split())
        total = sum(counts.values())
        # What was sampled hangs on neither how many variants there will be nor on the originals.
        found = orjson.loads(kept("ledgers-4", [dataset.digest, pipeline.digest], partial(_outcomes, renderer)))
        size, seconds = cost_of_one(renderer, dataset.digest, order)
        return Response({"counts": counts, "total": total, **found, "bytes": round(size * total),
                         "seconds": seconds_for(total, seconds)})  # fmt: skip


class Forecast(APIView):
    @extend_schema(request=ForecastRequestSerializer, responses={200: ForecastSerializer, 422: MessageSerializer}, operation_id="forecast_make")
    def post(self, request: Request) -> HttpResponse:
        """What becomes of labels over many draws: losses by class and step, sizes, blank area."""
        wish, dataset, pipeline, renderer = _asked(request, ForecastRequestSerializer)

        def make() -> dict[str, Any]:
            found = forecast(renderer.dataset, pipeline, wish["draws"])
            return {**found, "classes": _listed(found["classes"]), "steps": _listed(found["steps"])}

        return _json(kept("forecasts-2", [dataset.digest, pipeline.digest, wish["draws"]], make))


class ForecastLimit(APIView):
    @extend_schema(request=LimitRequestSerializer, responses={200: LimitSerializer, 422: MessageSerializer}, operation_id="forecast_limit")
    def post(self, request: Request) -> HttpResponse:
        """The largest symmetric range of a step's parameter that loses no more than a share of the objects."""
        wish, dataset, pipeline, renderer = _asked(request, LimitRequestSerializer)

        def make() -> dict[str, Any]:
            return largest_range(renderer.dataset, pipeline, wish["parameter"], wish["lose_at_most"], wish["draws"])

        return _json(kept("limits", [dataset.digest, pipeline.digest, wish["parameter"], wish["lose_at_most"], wish["draws"]], make))


class Notes(APIView):
    @extend_schema(request=NotesRequestSerializer, responses={200: NoteSerializer(many=True), 422: MessageSerializer}, operation_id="notes_make")
    def post(self, request: Request) -> HttpResponse:
        """What is allowed in this pipeline, on this dataset, but seldom meant."""
        _, dataset, pipeline, renderer = _asked(request, NotesRequestSerializer)
        asked = [dataset.digest, pipeline.digest, dataset.marks]
        return _json(kept("notes", asked, lambda: [note.to_json() for note in advice_on(renderer.dataset, pipeline, dataset.marks, give_way)]))


def _asked(request: Request, form: type[Serializer]) -> tuple[dict[str, Any], Dataset, Pipeline, Renderer]:
    wish = _checked(request, form)
    return wish, *_renderer(wish["dataset"], wish["document"])


def _checked(request: Request, form: type[Serializer]) -> dict[str, Any]:
    body = form(data=request.data)
    body.is_valid(raise_exception=True)
    wish: dict[str, Any] = body.validated_data
    return wish


def _json(text: bytes) -> HttpResponse:
    return HttpResponse(text, content_type="application/json")


def _listed(named: dict[str, dict[str, Any]]) -> list[dict[str, Any]]:
    return [{"name": name, **values} for name, values in named.items()]


def _training(renderer: Renderer) -> list[str]:
    return renderer.dataset.by_split().get("train") or list(renderer.dataset.entries)


def _outcomes(renderer: Renderer) -> dict[str, Any]:
    """What becomes of objects over a sample of variants, from labels alone."""
    tally = count_draws(renderer, SAMPLE, lambda done: give_way()) if renderer.dataset.by_split().get("train") else Tally()
    blame: Counter[str] = Counter()
    for (_, step), count in tally.dropped.items():
        blame[step] += count
    clipped = tally.clipped.total()
    sampled = max(tally.variants, 1)
    passes = sum(number * times for number, times in tally.passes.items())
    return {"sampled": tally.variants, "kept": tally.kept.total() - clipped, "clipped": clipped, "dropped": blame.total(),
            "blame": [{"step": step, "count": count} for step, count in blame.most_common()],
            "blank_share": round(sum(tally.blanks) / sampled, 4), "passes": round(passes / sampled, 2)}  # fmt: skip
