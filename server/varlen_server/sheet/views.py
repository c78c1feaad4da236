"""A contact sheet in two goes: labels and traces in one answer, pictures each at an address of its own.

A tile's address names dataset snapshot, pipeline, image and variant by content; the seed is
part of the pipeline. So what an address shows never changes and may be kept for ever.
"""

from __future__ import annotations

import hashlib
import json
import os
import time
from collections import Counter
from typing import Any

import orjson
from django.conf import settings
from django.http import HttpResponse
from drf_spectacular.utils import extend_schema
from rest_framework.exceptions import NotFound
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView
from varlen import __version__
from varlen.codec import encode
from varlen.errors import RenderError
from varlen.export import Order
from varlen.objects_json import objects_to_json
from varlen.pipeline import Pipeline, from_json
from varlen.plan import Resample
from varlen.render import Renderer
from varlen.sheet import spread
from varlen.steps import CATALOGUE

from varlen_server import store
from varlen_server.datasets.models import Dataset, Image
from varlen_server.datasets.serializers import MessageSerializer
from varlen_server.datasets.views import check_width, picture_response, preview
from varlen_server.pipelines.library import register
from varlen_server.sheet.renderers import renderer_for
from varlen_server.sheet.serializers import LedgerRequestSerializer, LedgerSerializer, SheetRequestSerializer, SheetSerializer, TraceSerializer

SAMPLE = 150
MEASURED = 3
#: What starting the worker processes takes.
START_SECONDS = 1.5


def _renderer(dataset_id: int, document: dict[str, Any]) -> tuple[Dataset, Pipeline, Renderer]:
    dataset = get_object_or_404(Dataset, pk=dataset_id)
    pipeline = from_json(document)
    digest = register(pipeline)
    return dataset, pipeline, renderer_for(dataset.pk, dataset.digest, digest)


class Sheet(APIView):
    @extend_schema(request=SheetRequestSerializer, responses={200: SheetSerializer, 422: MessageSerializer}, operation_id="sheet_make")
    def post(self, request: Request) -> HttpResponse:
        """Labels and traces of variants 1 … n of some images. The same question has the same answer, so it is kept."""
        body = SheetRequestSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        wish = body.validated_data
        dataset, pipeline, renderer = _renderer(wish["dataset"], wish["document"])
        asked = json.dumps([__version__, dataset.pk, dataset.digest, pipeline.digest, wish["images"], wish["variants"]])
        kept = settings.TILES / "sheets" / f"{hashlib.sha256(asked.encode()).hexdigest()}.json"
        if kept.exists():
            return HttpResponse(kept.read_bytes(), content_type="application/json")
        images = {image.pk: image for image in Image.objects.filter(dataset=dataset, pk__in=wish["images"]).only("key", "split")}
        base = f"/api/tiles/{dataset.pk}/{dataset.digest[7:]}/{pipeline.digest[7:]}"
        rows = []
        for pk in wish["images"]:
            if pk not in images:
                raise NotFound(f"The dataset has no image {pk}.")
            # Evaluation images have one output only: the way of the `every` steps.
            variants = range(1, wish["variants"] + 1) if images[pk].split == "train" else [0]
            rows.append({"image": pk, "tiles": [_tile(renderer, images[pk].key, variant, f"{base}/{pk}/{variant}") for variant in variants]})
        answer = orjson.dumps({"pipeline_digest": pipeline.digest, "rows": rows, "runs": _runs(renderer, pipeline)})
        store.write_whole(kept, answer, lasting=False)
        return HttpResponse(answer, content_type="application/json")


def _tile(renderer: Renderer, key: str, variant: int, address: str) -> dict[str, Any]:
    try:
        outcome = renderer.outcome(key, variant)
    except RenderError as error:
        size = renderer.dataset.size_of(key)
        empty = {"image": key, "seed": renderer.pipeline.seed, "variant": variant, "steps": [], "passes": 0, "size": list(size), "blank_share": 0.0,
                 "objects": {"kept": 0, "clipped": 0, "clipped_by": [], "dropped": []}}  # fmt: skip
        return {"variant": variant, "address": "", "width": size.width, "height": size.height, "objects": [], "trace": empty, "error": str(error)}
    objects = objects_to_json(outcome.objects, renderer.dataset.classes)
    width, height = outcome.size
    return {"variant": variant, "address": address, "width": width, "height": height, "objects": objects, "trace": outcome.trace, "error": ""}


def _runs(renderer: Renderer, pipeline: Pipeline) -> list[dict[str, list[str]]]:
    """Which steps share one resample when every step but the composites happens."""
    form = pipeline.to_json()
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
            plan = renderer.plan(_key(image, dataset), variant)
            # Kept by what is done to the pixels, too: a changed step costs only the tiles on which it happens.
            name = renderer.picture_key(plan)
            made = settings.TILES / "made" / name[:2] / f"{name}-{width}.jpg"
            if not made.exists():
                store.write_whole(made, preview(renderer.pixels(plan), width), lasting=False)
            store.also_as(made, asked)
        return picture_response(asked.read_bytes())


class Trace(APIView):
    @extend_schema(responses=TraceSerializer, operation_id="tiles_trace")
    def get(self, request: Request, dataset: int, snapshot: str, pipeline: str, image: int, variant: int) -> Response:
        """One variant's trace with the digest of its full-size pixels."""
        renderer = renderer_for(dataset, f"sha256:{snapshot}", f"sha256:{pipeline}")
        _, trace = renderer.render(_key(image, dataset), variant)
        return Response(trace, headers={"Cache-Control": "public, max-age=31536000, immutable"})


def _key(image: int, dataset: int) -> str:
    found = Image.objects.filter(pk=image, dataset=dataset).values_list("key", flat=True).first()
    if found is None:
        raise NotFound("There is no such image.")
    return found


class Ledger(APIView):
    @extend_schema(request=LedgerRequestSerializer, responses={200: LedgerSerializer, 422: MessageSerializer}, operation_id="ledger_make")
    def post(self, request: Request) -> Response:
        """What an edition of this would hold."""
        body = LedgerRequestSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        wish = body.validated_data
        _, _, renderer = _renderer(wish["dataset"], wish["document"])
        order = Order(wish["variants"], wish["originals"])
        counts = order.counts({split: count["images"] for split, count in renderer.dataset.counts().items()})
        answer = {"counts": counts, "total": sum(counts.values()), **_fates(renderer)}
        size, seconds = _measure(renderer)
        answer["bytes"] = round(size * answer["total"])
        answer["seconds"] = round(START_SECONDS + seconds * answer["total"] / (os.cpu_count() or 1), 1)
        return Response(answer)


def _training(renderer: Renderer) -> list[str]:
    return [key for key, entry in renderer.dataset.entries.items() if entry.split == "train"] or list(renderer.dataset.entries)


def _fates(renderer: Renderer) -> dict[str, Any]:
    """What becomes of objects over a sample of variants, from labels alone."""
    images = spread(_training(renderer), SAMPLE)
    rounds = max(1, SAMPLE // len(images))
    blame: Counter[str] = Counter()
    kept = clipped = 0
    blank = passes = 0.0
    for image in images:
        for variant in range(1, rounds + 1):
            trace = renderer.outcome(image, variant).trace
            kept += trace["objects"]["kept"]
            clipped += trace["objects"]["clipped"]
            blame.update(fate["step"] for fate in trace["objects"]["dropped"])
            blank += trace["blank_share"]
            passes += trace["passes"]
    count = len(images) * rounds
    steps = [{"step": step, "count": number} for step, number in blame.most_common()]
    return {"sampled": count, "kept": kept, "clipped": clipped, "dropped": blame.total(), "blame": steps,
            "blank_share": round(blank / count, 4), "passes": round(passes / count, 2)}  # fmt: skip


def _measure(renderer: Renderer) -> tuple[float, float]:
    """Bytes and seconds an image, from a few variants made for real."""
    size = 0
    images = spread(_training(renderer), MEASURED)
    start = time.perf_counter()
    for image in images:
        sample, _ = renderer.render(image, 1)
        size += len(encode(sample.pixels, "jpeg", 90))
    return size / len(images), (time.perf_counter() - start) / len(images)
