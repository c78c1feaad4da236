"""Renderers kept ready between requests, sharing one cache of decoded pictures."""

from __future__ import annotations

from functools import lru_cache

from django.db import connection
from rest_framework.exceptions import NotFound
from varlen.pipeline.document import Pipeline, from_json
from varlen.render.renderer import Renderer
from varlen.render.source_pictures import PictureCache

from varlen_server.datasets.models import Dataset
from varlen_server.datasets.services import load
from varlen_server.pipelines.models import Document, Revision

_cache = PictureCache(384 << 20)


def renderer_of(dataset: int, dataset_digest: str, pipeline: Pipeline) -> Renderer:
    """A renderer for a snapshot and a pipeline at hand."""
    return Renderer(load(dataset, dataset_digest), pipeline, _cache)


@lru_cache(maxsize=64)
def renderer_for(dataset: int, dataset_digest: str, pipeline_digest: str) -> Renderer:
    """A renderer for a snapshot and a pipeline that was registered before."""
    document = Document.objects.filter(pk=pipeline_digest).first()
    if document is None or not Dataset.objects.filter(pk=dataset, digest=dataset_digest).exists():
        raise NotFound("There is no such tile: the pipeline or the dataset is not known here.")
    return renderer_of(dataset, dataset_digest, from_json(document.document))


def warm_up() -> None:
    """Make a first variant, so that the first that is asked for finds everything loaded."""
    dataset, revision = Dataset.objects.first(), Revision.objects.order_by("pipeline", "-number").first()
    if dataset is not None and revision is not None:
        renderer = renderer_of(dataset.pk, dataset.digest, from_json(revision.document))
        for variant in range(1, 4):
            renderer.render(next(iter(renderer.dataset.entries)), variant)
    connection.close()
