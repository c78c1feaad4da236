"""Editions: order, watch, cancel, resume, check, download."""

from __future__ import annotations

from django.http import HttpResponse
from django.http.response import HttpResponseBase
from drf_spectacular.utils import extend_schema
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView
from varlen.editions.edition import compare
from varlen.editions.recreate import recreate
from varlen.editions.scores import scores_of

from varlen_server.datasets.models import Dataset
from varlen_server.datasets.serializers import MessageSerializer
from varlen_server.editions import images, services, trials
from varlen_server.editions.models import Edition
from varlen_server.editions.serializers import (
    CellSerializer,
    CopyRequestSerializer,
    EditionDifferenceSerializer,
    EditionPageSerializer,
    EditionRequestSerializer,
    EditionRowSerializer,
    EditionRowsQuerySerializer,
    EditionSerializer,
    EstimateRequestSerializer,
    EstimateSerializer,
    RecreatedSerializer,
    ResumeSerializer,
    ScoreSerializer,
    ScoresRequestSerializer,
    TrialsStartSerializer,
)
from varlen_server.editions.services import attach_scores, done_or_404, spec_of
from varlen_server.editions.tasks import source_of
from varlen_server.editions.zip_stream import Zip, zip_response
from varlen_server.people.roles import ASKING
from varlen_server.pipelines.models import Revision
from varlen_server.pipelines.serializers import NoteSerializer
from varlen_server.previews import check_width, picture_response
from varlen_server.requests import body_of, query_of


def _shown(pk: int, status: int = 200) -> Response:
    return Response(EditionSerializer(services.edition_or_404(pk)).data, status=status)


class EditionList(APIView):
    for_scores = ("GET",)
    throttle_scope = "order"

    @extend_schema(responses=EditionSerializer(many=True), operation_id="editions_list")
    def get(self, request: Request) -> Response:
        """All editions, newest first."""
        return Response(EditionSerializer(Edition.objects.select_related("dataset", "revision"), many=True).data)

    @extend_schema(request=EditionRequestSerializer, responses={201: EditionSerializer, 422: MessageSerializer}, operation_id="editions_create")
    def post(self, request: Request) -> Response:
        """Order an edition; it is made in the background."""
        wish = body_of(request, EditionRequestSerializer)
        dataset = get_object_or_404(Dataset, pk=wish["dataset"])
        revision = Revision.objects.filter(pk=wish.get("revision") or 0).first()
        return _shown(services.order_edition(wish["name"], dataset, wish["document"], spec_of(wish), revision, wish["leave_out"],
                                             wish["accept_loss"]).pk, 201)  # fmt: skip


class EditionEstimate(APIView):
    roles = ASKING
    throttle_scope = "count"

    @extend_schema(request=EstimateRequestSerializer, responses={200: EstimateSerializer, 422: MessageSerializer}, operation_id="editions_estimate")
    def post(self, request: Request) -> Response:
        """What an edition would hold, and about how many bytes and seconds it takes."""
        wish = body_of(request, EstimateRequestSerializer)
        return Response(services.estimate(get_object_or_404(Dataset, pk=wish["dataset"]), wish["document"], spec_of(wish)))


class EditionDetail(APIView):
    for_scores = ("GET",)

    @extend_schema(responses=EditionSerializer, operation_id="editions_get")
    def get(self, request: Request, pk: int) -> Response:
        """One edition and its progress."""
        return _shown(pk)

    @extend_schema(request=NoteSerializer, responses=EditionSerializer, operation_id="editions_note")
    def patch(self, request: Request, pk: int) -> Response:
        """Write a note on an edition; its record stays as it is."""
        edition = services.edition_or_404(pk)
        Edition.objects.filter(pk=edition.pk).update(note=body_of(request, NoteSerializer)["note"].strip())
        return _shown(pk)

    @extend_schema(responses={204: None, 409: MessageSerializer}, operation_id="editions_remove")
    def delete(self, request: Request, pk: int) -> Response:
        """Delete an edition with its folder and scores; one that is being made must be cancelled first."""
        services.remove(services.edition_or_404(pk))
        return Response(status=204)


class EditionCancel(APIView):
    @extend_schema(request=None, responses=EditionSerializer, operation_id="editions_cancel")
    def post(self, request: Request, pk: int) -> Response:
        """Stop making an edition; what was written of it is removed."""
        services.cancel(services.edition_or_404(pk).pk)
        return _shown(pk)


class EditionResume(APIView):
    @extend_schema(request=ResumeSerializer, responses=EditionSerializer, operation_id="editions_resume")
    def post(self, request: Request, pk: int) -> Response:
        """Resume a stopped edition with the images it has; `leave_out`: without those that can't be made."""
        wish = body_of(request, ResumeSerializer)
        services.resume(services.edition_or_404(pk).pk, wish["leave_out"])
        return _shown(pk)


class EditionCheck(APIView):
    @extend_schema(request=None, responses=EditionSerializer, operation_id="editions_check")
    def post(self, request: Request, pk: int) -> Response:
        """Compare every file of an edition with its record, in the background."""
        services.check(services.done_or_404(pk))
        return _shown(pk)


class EditionCopy(APIView):
    @extend_schema(request=CopyRequestSerializer, responses={200: EditionSerializer, 422: MessageSerializer}, operation_id="editions_copy")
    def post(self, request: Request, pk: int) -> Response:
        """Send the edition to a folder in an object store that this server may write to, in the background."""
        services.copy(services.done_or_404(pk), body_of(request, CopyRequestSerializer)["url"])
        return _shown(pk)


class EditionDownload(APIView):
    @extend_schema(responses={(200, "application/zip"): bytes, (206, "application/zip"): bytes}, operation_id="editions_download")
    def get(self, request: Request, pk: int) -> HttpResponseBase:
        """The edition as a zip; a part of it for a request with a range."""
        edition = services.done_or_404(pk)
        version = services.download_version(edition)
        return zip_response(request._request, Zip(edition.folder, version), services.download_name(edition), f'"{version}"')


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


class Trials(APIView):
    throttle_scope = "order"

    @extend_schema(responses=CellSerializer(many=True), operation_id="trials_list")
    def get(self, request: Request) -> Response:
        """A cell for every pipeline and dataset, as both are now."""
        return Response(CellSerializer(trials.all_cells(), many=True).data)

    @extend_schema(request=TrialsStartSerializer, responses=CellSerializer(many=True), operation_id="trials_start")
    def post(self, request: Request) -> Response:
        """Order the editions that are missing for some pipelines and datasets."""
        wish = body_of(request, TrialsStartSerializer)
        return Response(CellSerializer(trials.start(wish["datasets"], wish["pipelines"], wish, wish["accept_loss"]), many=True).data)
