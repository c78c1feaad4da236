"""Trials: the table of pipelines and datasets."""

from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from varlen_server.editions import trials
from varlen_server.editions.serializers import CellSerializer, TrialsStartSerializer
from varlen_server.requests import body_of


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
