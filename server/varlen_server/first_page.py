"""The page that holds all screens, with the data the bench begins with in it: no questions before anything can be drawn."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import orjson
from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.utils.html import escape

from varlen_server.datasets.models import Dataset
from varlen_server.datasets.serializers import DatasetSerializer, ImageSerializer
from varlen_server.datasets.services import images_for_sheet
from varlen_server.json_renderer import FastJSONRenderer
from varlen_server.pipelines.models import Pipeline
from varlen_server.pipelines.serializers import PipelineSerializer, RevisionSerializer
from varlen_server.pipelines.views import catalogue_json

#: Rows of the bench's sheet unless someone chose another number.
ROWS = 6
#: Cookies that say what the bench opened last.
DATASET, PIPELINE = "varlen-dataset", "varlen-pipeline"


def screens(request: HttpRequest) -> HttpResponse:
    """The page, for whatever address."""
    page = settings.WEB / "index.html"
    if not page.exists():
        return HttpResponse("The screens are not built yet: run 'make start'.", status=503, content_type="text/plain")
    text: str = page.read_text()
    visitor = getattr(request, "visitor", None)
    session = {"sign_in": settings.SIGN_IN, "name": visitor.name if visitor else "", "role": visitor.role if visitor else ""}
    text = text.replace("</head>", f'<meta name="varlen-session" content="{escape(orjson.dumps(session).decode())}"></head>', 1)
    if request.path == "/" and visitor is not None:
        # Within a script no tag may begin.
        data = orjson.dumps(first_data(request)).decode().replace("<", "\\u003c")
        text = text.replace("</head>", f'<script type="application/json" id="first-data">{data}</script></head>', 1)
    return HttpResponse(text, content_type="text/html", headers={"Cache-Control": "no-store" if settings.SIGN_IN else "no-cache"})


def first_data(request: HttpRequest) -> dict[str, Any]:
    """What the bench would ask for first, as the API answers it: datasets, pipelines, steps, the open pipeline, and the sheet's images."""
    datasets, pipelines = list(Dataset.objects.filter(ready=True)), list(Pipeline.objects.all())
    found: dict[str, Any] = {
        "datasets": DatasetSerializer(datasets, many=True).data,
        "pipelines": PipelineSerializer(pipelines, many=True).data,
        "steps": orjson.Fragment(catalogue_json()),
    }
    if pipelines:
        pipeline = _chosen(pipelines, request.COOKIES.get(PIPELINE, ""))
        found["open"] = RevisionSerializer(pipeline.revisions.first()).data
    if datasets:
        dataset = _chosen(datasets, request.COOKIES.get(DATASET, ""))
        found["rows"] = {"dataset": dataset.pk, "count": ROWS, "images": orjson.Fragment(_first_rows(dataset.pk, dataset.digest))}
    return found


@lru_cache(maxsize=16)
def _first_rows(dataset: int, digest: str) -> bytes:
    """The images that the sheet begins with, as JSON; they follow from the snapshot."""
    images = images_for_sheet(Dataset.objects.get(pk=dataset), "spread", "train", ROWS, 0, [])
    return FastJSONRenderer().render(ImageSerializer(images, many=True).data)


def _chosen(those: list[Any], wanted: str) -> Any:
    """The one whose number is `wanted`, else the first."""
    return next((each for each in those if str(each.pk) == wanted), those[0])
