"""The catalogue of steps; pipelines and their revisions."""

from __future__ import annotations

from functools import cache
from itertools import zip_longest

import orjson
from django.http import HttpResponse
from drf_spectacular.utils import extend_schema
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView
from varlen.pipeline.diff import differences
from varlen.pipeline.document import from_json
from varlen.steps import CATALOGUE, describe

from varlen_server.datasets.serializers import MessageSerializer
from varlen_server.pipelines.library import create, save
from varlen_server.pipelines.models import Pipeline, Revision
from varlen_server.pipelines.serializers import (
    CompareSerializer,
    DifferenceSerializer,
    DocumentSerializer,
    NameSerializer,
    PipelineSerializer,
    RevisionLineSerializer,
    RevisionSerializer,
    SaveSerializer,
    StepSerializer,
)

MOST_REVISIONS = 100


class Steps(APIView):
    @extend_schema(responses=StepSerializer(many=True), operation_id="steps_list")
    def get(self, request: Request) -> HttpResponse:
        """The catalogue of steps."""
        return HttpResponse(_catalogue(), content_type="application/json")


@cache
def _catalogue() -> bytes:
    """Written once: steps don't change while the server runs."""
    return orjson.dumps([describe(cls, schema=True) for cls in CATALOGUE.values()])


class PipelineList(APIView):
    @extend_schema(responses=PipelineSerializer(many=True), operation_id="pipelines_list")
    def get(self, request: Request) -> Response:
        """All pipelines."""
        return Response(PipelineSerializer(Pipeline.objects.all(), many=True).data)

    @extend_schema(request=DocumentSerializer, responses={201: RevisionSerializer, 422: MessageSerializer}, operation_id="pipelines_create")
    def post(self, request: Request) -> Response:
        """A new pipeline."""
        body = DocumentSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        return Response(RevisionSerializer(create(body.validated_data["document"])).data, status=201)


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
        body = SaveSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        revision = save(get_object_or_404(Pipeline, pk=pk), body.validated_data["document"], body.validated_data["base"])
        return Response(RevisionSerializer(revision).data)

    @extend_schema(responses={204: None}, operation_id="pipelines_delete")
    def delete(self, request: Request, pk: int) -> Response:
        """Take a pipeline away with its revisions; editions keep what they were made with."""
        get_object_or_404(Pipeline, pk=pk).delete()
        return Response(status=204)


class Revisions(APIView):
    @extend_schema(responses=RevisionLineSerializer(many=True), operation_id="pipelines_revisions")
    def get(self, request: Request, pk: int) -> Response:
        """The newest hundred revisions, the newest first, each with what changed."""
        rows = list(get_object_or_404(Pipeline, pk=pk).revisions.all()[: MOST_REVISIONS + 1])
        lines = []
        for row, before in zip_longest(rows, rows[1:]):
            changes = differences(before.document, row.document) if before is not None else []
            lines.append({**{name: getattr(row, name) for name in ("id", "number", "name", "created", "document")},
                          "changes": [each.to_json() for each in changes]})  # fmt: skip
        return Response(RevisionLineSerializer(lines[:MOST_REVISIONS], many=True).data)


class RevisionName(APIView):
    @extend_schema(request=NameSerializer, responses=RevisionSerializer, operation_id="revisions_name")
    def patch(self, request: Request, pk: int) -> Response:
        """Give a revision a name."""
        revision = get_object_or_404(Revision, pk=pk)
        body = NameSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        revision.name = body.validated_data["name"]
        revision.save(update_fields=["name"])
        return Response(RevisionSerializer(revision).data)


class Compare(APIView):
    @extend_schema(request=CompareSerializer, responses=DifferenceSerializer(many=True), operation_id="pipelines_compare")
    def post(self, request: Request) -> Response:
        """What differs between two pipelines, step by step."""
        body = CompareSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        before, after = (from_json(body.validated_data[name]).to_json() for name in ("before", "after"))
        return Response([each.to_json() for each in differences(before, after)])
