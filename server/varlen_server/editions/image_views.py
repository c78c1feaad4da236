"""Looking at an edition: its images, their traces, making one again, scores, and two editions side by side."""

from __future__ import annotations

from django.http import HttpResponse
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView
from varlen.editions.compare import compare
from varlen.editions.recreate import recreate
from varlen.editions.scores import scores_of

from varlen_server.datasets.serializers import MessageSerializer
from varlen_server.editions import images
from varlen_server.editions.serializers import (
    EditionDifferenceSerializer,
    EditionPageSerializer,
    EditionRowSerializer,
    EditionRowsQuerySerializer,
    RecreatedSerializer,
    ScoreSerializer,
    ScoresRequestSerializer,
)
from varlen_server.editions.services import attach_scores, done_or_404
from varlen_server.editions.tasks import source_of
from varlen_server.people.roles import ASKING
from varlen_server.previews import check_width, picture_response
from varlen_server.requests import body_of, query_of


class EditionImages(APIView):
    @extend_schema(parameters=[EditionRowsQuerySerializer], responses=EditionPageSerializer, operation_id="editions_images")
    def get(self, request: Request, pk: int) -> Response:
        """Images of an edition that meet every filter, a page at a time, with their labels."""
        wish = query_of(request, EditionRowsQuerySerializer)
        return Response(EditionPageSerializer(images.page_of_rows(done_or_404(pk), wish)).data)


class EditionImage(APIView):
    @extend_schema(responses=EditionRowSerializer, operation_id="editions_image")
    def get(self, request: Request, pk: int, row: int) -> Response:
        """One image of an edition with its trace and labels."""
        edition = done_or_404(pk)
        return Response(EditionRowSerializer(images.shown_rows(edition, [images.row_or_404(edition, row)])[0]).data)


class EditionPicture(APIView):
    @extend_schema(responses={(200, "image/jpeg"): bytes}, operation_id="editions_picture")
    def get(self, request: Request, pk: int, row: int, digest: str, width: int) -> HttpResponse:
        """A picture of an edition as it lies in its folder, as JPEG, at most `width` px wide."""
        check_width(width)
        return picture_response(images.picture(done_or_404(pk), row, digest, width))


class EditionRecreate(APIView):
    roles = ASKING
    throttle_scope = "count"

    @extend_schema(request=None, responses={200: RecreatedSerializer, 422: MessageSerializer}, operation_id="editions_recreate")
    def post(self, request: Request, pk: int, row: int) -> Response:
        """Make one image again from its record and the source dataset, and compare it with what was written."""
        edition = done_or_404(pk)
        made = recreate(edition.folder, images.row_or_404(edition, row), source_of(edition))
        return Response({"identical": made.identical, "differences": made.differences})


class EditionScores(APIView):
    for_scores = ("GET", "POST")

    @extend_schema(responses=ScoreSerializer(many=True), operation_id="scores_list")
    def get(self, request: Request, pk: int) -> Response:
        """An edition's scores, by name, split and epoch."""
        return Response(ScoreSerializer(scores_of(done_or_404(pk).folder), many=True).data)

    @extend_schema(request=ScoresRequestSerializer, responses={201: ScoreSerializer(many=True), 422: MessageSerializer}, operation_id="scores_attach")
    def post(self, request: Request, pk: int) -> Response:
        """Attach scores, one by one or as the text of a file."""
        wish = body_of(request, ScoresRequestSerializer)
        scores = attach_scores(done_or_404(pk), wish["scores"], wish["text"], wish["source"])
        return Response(ScoreSerializer(scores, many=True).data, status=201)


class EditionCompare(APIView):
    @extend_schema(responses={200: EditionDifferenceSerializer, 422: MessageSerializer}, operation_id="editions_compare")
    def get(self, request: Request, pk: int, other: int) -> Response:
        """What differs between two editions."""
        return Response(EditionDifferenceSerializer(compare(done_or_404(pk).folder, done_or_404(other).folder)).data)
