"""Looking at an edition: its images, their traces, making one again, scores, and two editions side by side."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.http import HttpResponse
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.exceptions import NotFound
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView
from varlen.datasets.image_files import decode
from varlen.editions.compare import compare
from varlen.editions.recreate import recreate
from varlen.editions.scores import Score, attach, read_scores, scores_of
from varlen.errors import EditionError, VarlenError
from varlen.pipeline.document import from_json
from varlen.render.renderer import Renderer
from varlen.shapes.objects_json import objects_to_json

from varlen_server import store
from varlen_server.datasets.models import Image
from varlen_server.datasets.serializers import MessageSerializer
from varlen_server.datasets.views import number_asked
from varlen_server.editions.models import Edition
from varlen_server.editions.row_index import index_of
from varlen_server.editions.serializers import (
    EditionDifferenceSerializer,
    EditionPageSerializer,
    EditionRowSerializer,
    RecreatedSerializer,
    ScoreSerializer,
    ScoresRequestSerializer,
)
from varlen_server.editions.tasks import source_of
from varlen_server.editions.views import done_or_404
from varlen_server.previews import check_width, picture_response, preview
from varlen_server.sheet.renderers import renderer_of

_FILTERS = {"split": "a split", "step": "a step that happened, by its id", "class": "a class", "lost": "1: objects were lost, 0: none",
            "variant": "a variant's number", "name": "part of the source's path", "source": "the source's path"}  # fmt: skip
_PAGE = [*(OpenApiParameter(name, str, description=text) for name, text in _FILTERS.items()),
         OpenApiParameter("offset", int), OpenApiParameter("count", int)]  # fmt: skip


class EditionImages(APIView):
    @extend_schema(parameters=_PAGE, responses=EditionPageSerializer, operation_id="editions_images")
    def get(self, request: Request, pk: int) -> Response:
        """Images of an edition that answer to every filter, a page at a time, with their labels."""
        edition = done_or_404(pk)
        index = index_of(edition.folder, edition.output_digest)
        chosen = index.chosen(request.query_params)
        offset, count = max(number_asked(request, "offset", 0), 0), min(max(number_asked(request, "count", 40), 1), 200)
        rows = [index.row(number) for number in chosen[offset : offset + count].tolist()]
        return Response(EditionPageSerializer({"total": len(chosen), **index.facets(), "rows": _shown(edition, rows)}).data)


class EditionImage(APIView):
    @extend_schema(responses=EditionRowSerializer, operation_id="editions_image")
    def get(self, request: Request, pk: int, row: int) -> Response:
        """One image of an edition with its trace and labels."""
        edition = done_or_404(pk)
        return Response(EditionRowSerializer(_shown(edition, [_row(edition, row)])[0]).data)


class EditionPicture(APIView):
    @extend_schema(responses={(200, "image/jpeg"): bytes}, operation_id="editions_picture")
    def get(self, request: Request, pk: int, row: int, digest: str, width: int) -> HttpResponse:
        """A picture of an edition as it lies in its folder, as JPEG, at most `width` px wide."""
        check_width(width)
        edition = done_or_404(pk)
        cached = settings.TILES / "editions" / digest[:2] / f"{digest}-{width}.jpg"
        if not cached.exists():
            found = _row(edition, row)
            if not found["pixel_digest"].endswith(digest):
                raise NotFound("There is no such picture.")
            store.write_whole(cached, preview(_pixels(edition, found), width), lasting=False)
        return picture_response(cached.read_bytes())


class EditionRecreate(APIView):
    @extend_schema(request=None, responses={200: RecreatedSerializer, 422: MessageSerializer}, operation_id="editions_recreate")
    def post(self, request: Request, pk: int, row: int) -> Response:
        """Make one image again from its record and the source dataset, and hold it against what was written."""
        edition = done_or_404(pk)
        made = recreate(edition.folder, _row(edition, row), source_of(edition))
        return Response({"identical": made.identical, "differences": made.differences})


class EditionScores(APIView):
    @extend_schema(responses=ScoreSerializer(many=True), operation_id="scores_list")
    def get(self, request: Request, pk: int) -> Response:
        """An edition's scores, by name, split and epoch."""
        return Response(ScoreSerializer(scores_of(done_or_404(pk).folder), many=True).data)

    @extend_schema(request=ScoresRequestSerializer, responses={201: ScoreSerializer(many=True), 422: MessageSerializer}, operation_id="scores_attach")
    def post(self, request: Request, pk: int) -> Response:
        """Attach scores, one by one or as the text of a file."""
        body = ScoresRequestSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        wish, folder = body.validated_data, done_or_404(pk).folder
        scores = [Score(**score) for score in wish["scores"]]
        if wish["text"].strip():
            scores += read_scores(wish["text"], wish["source"])
        if not scores:
            raise EditionError("there is no score in what was sent")
        attach(folder, scores)
        return Response(ScoreSerializer(scores_of(folder), many=True).data, status=201)


class EditionCompare(APIView):
    @extend_schema(responses={200: EditionDifferenceSerializer, 422: MessageSerializer}, operation_id="editions_compare")
    def get(self, request: Request, pk: int, other: int) -> Response:
        """What differs between two editions."""
        return Response(EditionDifferenceSerializer(compare(done_or_404(pk).folder, done_or_404(other).folder)).data)


def _row(edition: Edition, number: int) -> dict[str, Any]:
    try:
        return index_of(edition.folder, edition.output_digest).row(number)
    except EditionError as error:
        raise NotFound(str(error)) from None


def _renderer(edition: Edition) -> Renderer | None:
    """What made the edition; None when its dataset is not here as it was."""
    if edition.dataset is None or edition.dataset.digest != edition.dataset_digest:
        return None
    return renderer_of(edition.dataset.pk, edition.dataset_digest, from_json(edition.document))


def _pixels(edition: Edition, row: dict[str, Any]) -> Any:
    """From the file; pictures inside shards are made again."""
    path = edition.folder / row["file"]
    if path.is_file():
        return decode(path.read_bytes(), row["file"])
    renderer = _renderer(edition)
    if renderer is None:
        raise NotFound("This picture lies inside a shard, and its dataset is not here to make it again.")
    return renderer.pixels(renderer.replan(row["trace"]))


def _shown(edition: Edition, rows: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Rows with what a screen needs: size, address of the picture, and labels, which follow from the trace."""
    renderer = _renderer(edition)
    images = {}
    if edition.dataset is not None:
        keys = {row["source"] for row in rows}
        images = dict(Image.objects.filter(dataset=edition.dataset, key__in=keys).values_list("key", "pk"))
    shown = []
    for row in rows:
        digest = row["pixel_digest"].rpartition(":")[2]
        width, height = row["trace"]["size"]
        shown.append({
            **row, "width": width, "height": height, "address": f"/api/editions/{edition.pk}/pictures/{row['row']}/{digest}",
            "objects": _objects(renderer, row), "source_image": images.get(row["source"]),
        })  # fmt: skip
    return shown


def _objects(renderer: Renderer | None, row: dict[str, Any]) -> list[dict[str, Any]]:
    if renderer is None:
        return []
    try:
        outcome = renderer.variant_labels(row["source"], row["variant"], renderer.replan(row["trace"]))
    except VarlenError:
        return []
    return objects_to_json(outcome.objects, renderer.dataset.classes)
