"""Trials: every pipeline on every dataset, what is made of it and what came of training."""

from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView
from varlen.editions.scores import Score, scores_of
from varlen.errors import VarlenError

from varlen_server.datasets.models import Dataset
from varlen_server.editions.models import Edition
from varlen_server.editions.serializers import CellSerializer, TrialsStartSerializer
from varlen_server.editions.views import make, order_of
from varlen_server.pipelines.models import Revision

_GIVEN_UP = (Edition.State.CANCELLED, Edition.State.FAILED)


class Trials(APIView):
    @extend_schema(responses=CellSerializer(many=True), operation_id="trials_list")
    def get(self, request: Request) -> Response:
        """A cell for every pipeline and dataset, as both are now."""
        newest, datasets = _newest(), _datasets()
        return Response(CellSerializer([_cell(dataset, revision, newest) for revision in _latest() for dataset in datasets], many=True).data)

    @extend_schema(request=TrialsStartSerializer, responses=CellSerializer(many=True), operation_id="trials_start")
    def post(self, request: Request) -> Response:
        """Order the editions that are missing for some pipelines and datasets."""
        body = TrialsStartSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        wish = body.validated_data
        newest, cells = _newest(), []
        datasets = [each for each in _datasets() if each.pk in wish["datasets"]]
        for revision in (each for each in _latest() if each.pipeline_id in wish["pipelines"]):
            for dataset in datasets:
                key = dataset.pk, dataset.digest, revision.digest
                if key not in newest:
                    name = f"{dataset.name}, {revision.pipeline.name}"[:120]
                    newest[key] = make(name, dataset, revision.document, order_of(wish), revision)
                cells.append(_cell(dataset, revision, newest))
        return Response(CellSerializer(cells, many=True).data)


def _datasets() -> list[Dataset]:
    return list(Dataset.objects.filter(ready=True))


def _latest() -> list[Revision]:
    """The newest revision of every pipeline."""
    newest = Revision.objects.order_by("pipeline_id", "-number").distinct("pipeline_id")
    return list(newest.select_related("pipeline"))


def _newest() -> dict[tuple[int | None, str, str], Edition]:
    """The newest edition of each dataset snapshot and pipeline, but for those that were given up."""
    found: dict[tuple[int | None, str, str], Edition] = {}
    for edition in Edition.objects.exclude(state__in=_GIVEN_UP).order_by("pk"):
        found[edition.dataset_id, edition.dataset_digest, edition.pipeline_digest] = edition
    return found


def _cell(dataset: Dataset, revision: Revision, newest: dict[tuple[int | None, str, str], Edition]) -> dict[str, object]:
    edition = newest.get((dataset.pk, dataset.digest, revision.digest))
    cell = {"dataset": dataset.pk, "pipeline": revision.pipeline_id, "edition": None, "state": "", "done": 0, "total": 0, "message": "", "scores": []}
    if edition is None:
        return cell
    return {**cell, "edition": edition.pk, "state": edition.state, "done": edition.done, "total": edition.total, "message": edition.message,
            "scores": _last_scores(edition)}  # fmt: skip


def _last_scores(edition: Edition) -> list[Score]:
    """Of each name and split the number of the whole training, else of its last epoch."""
    found: dict[tuple[str, str], Score] = {}
    try:
        for score in scores_of(edition.folder):
            found[score.name, score.split] = score
    except VarlenError:
        return []
    return list(found.values())
