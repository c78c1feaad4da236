"""The catalogue of steps; pipelines and their revisions."""

from __future__ import annotations

from functools import cache

import orjson
from django.http import HttpResponse
from drf_spectacular.utils import extend_schema
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView
from varlen.pipeline.document import differences, from_json
from varlen.pipeline.starting_points import STARTING_POINTS
from varlen.steps import CATALOGUE, describe

from varlen_server.datasets.serializers import MessageSerializer
from varlen_server.people.roles import ASKING
from varlen_server.pipelines.models import Pipeline, Revision, create, revision_lines, save
from varlen_server.pipelines.serializers import (
    CompareSerializer,
    DifferenceSerializer,
    DocumentSerializer,
    NameSerializer,
    NoteSerializer,
    PipelineSerializer,
    RevisionLineSerializer,
    RevisionSerializer,
    SaveSerializer,
    StartingPointSerializer,
    StepSerializer,
)
from varlen_server.requests import body_of


class Steps(APIView):
    @extend_schema(responses=StepSerializer(many=True), operation_id="steps_list")
    def get(self, request: Request) -> HttpResponse:
        """The catalogue of steps."""
        return HttpResponse(catalogue_json(), content_type="application/json")


@cache
def catalogue_json() -> bytes:
    """Written once: steps don't change while the server runs."""
    return orjson.dumps([describe(cls, schema=True) for cls in CATALOGUE.values()])


class StartingPoints(APIView):
    @extend_schema(responses=StartingPointSerializer(many=True), operation_id="starting_points_list")
    def get(self, request: Request) -> Response:
        """Pipelines to begin with, each for a task, with a sentence why."""
        return Response([point.to_json() for point in STARTING_POINTS])


class PipelineList(APIView):
    @extend_schema(responses=PipelineSerializer(many=True), operation_id="pipelines_list")
    def get(self, request: Request) -> Response:
        """All pipelines."""
        return Response(PipelineSerializer(Pipeline.objects.all(), many=True).data)

    @extend_schema(request=DocumentSerializer, responses={201: RevisionSerializer, 422: MessageSerializer}, operation_id="pipelines_create")
    def post(self, request: Request) -> Response:
        """A new pipeline."""
        return Response(RevisionSerializer(create(body_of(request, DocumentSerializer)["document"])).data, status=201)


class LatestRevision(APIView):
    @extend_schema(responses=RevisionSerializer, operation_id="pipelines_latest")
    def get(self, request: Request, pk: int) -> Response:
        """The newest revision of a pipeline."""
        return Response(RevisionSerializer(get_object_or_404(Pipeline, pk=pk).revisions.first()).data)

    @extend_schema(
        request=SaveSerializer, responses={200: RevisionSerializer, 409: MessageSerializer, 422: MessageSerializer}, operation_id="pipelines_save"
    )
    def post(self, request: Request, pk: int) -> Response:
        """Save a further revision; refused when there is a newer one than `base`."""
        wish = body_of(request, SaveSerializer)
        revision = save(get_object_or_404(Pipeline, pk=pk), wish["document"], wish["base"])
        return Response(RevisionSerializer(revision).data)

    @extend_schema(request=NoteSerializer, responses=PipelineSerializer, operation_id="pipelines_note")
    def patch(self, request: Request, pk: int) -> Response:
        """Write a note on a pipeline."""
        pipeline = get_object_or_404(Pipeline, pk=pk)
        Pipeline.objects.filter(pk=pk).update(note=body_of(request, NoteSerializer)["note"].strip())
        pipeline.refresh_from_db()
        return Response(PipelineSerializer(pipeline).data)

    @extend_schema(responses={204: None}, operation_id="pipelines_delete")
    def delete(self, request: Request, pk: int) -> Response:
        """Delete a pipeline with its revisions; editions keep what they were made with."""
        get_object_or_404(Pipeline, pk=pk).delete()
        return Response(status=204)


class Revisions(APIView):
    @extend_schema(responses=RevisionLineSerializer(many=True), operation_id="pipelines_revisions")
    def get(self, request: Request, pk: int) -> Response:
        """The newest hundred revisions, the newest first, each with what changed."""
        return Response(RevisionLineSerializer(revision_lines(get_object_or_404(Pipeline, pk=pk)), many=True).data)


class RevisionName(APIView):
    @extend_schema(request=NameSerializer, responses=RevisionSerializer, operation_id="revisions_name")
    def patch(self, request: Request, pk: int) -> Response:
        """Give a revision a name."""
        revision = get_object_or_404(Revision, pk=pk)
        revision.name = body_of(request, NameSerializer)["name"]
        revision.save(update_fields=["name"])
        return Response(RevisionSerializer(revision).data)


class Compare(APIView):
    roles = ASKING

    @extend_schema(request=CompareSerializer, responses=DifferenceSerializer(many=True), operation_id="pipelines_compare")
    def post(self, request: Request) -> Response:
        """What differs between two pipelines, step by step."""
        wish = body_of(request, CompareSerializer)
        before, after = (from_json(wish[name]).to_json() for name in ("before", "after"))
        return Response([each.to_json() for each in differences(before, after)])
