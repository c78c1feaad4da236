"""The catalogue of steps; pipelines and their revisions."""

from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView
from varlen.steps import CATALOGUE, describe

from varlen_server.datasets.serializers import MessageSerializer
from varlen_server.pipelines.library import create, save
from varlen_server.pipelines.models import Pipeline
from varlen_server.pipelines.serializers import DocumentSerializer, PipelineSerializer, RevisionSerializer, SaveSerializer, StepSerializer


class Steps(APIView):
    @extend_schema(responses=StepSerializer(many=True), operation_id="steps_list")
    def get(self, request: Request) -> Response:
        """The catalogue of steps."""
        return Response([describe(cls) for cls in CATALOGUE.values()])


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
