"""Matches and probes: asking, looking, cancelling, going on."""

from __future__ import annotations

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView
from varlen.pipeline.document import from_json

from varlen_server.datasets.models import Dataset
from varlen_server.datasets.serializers import MessageSerializer
from varlen_server.evidence import services
from varlen_server.evidence.models import Inquiry
from varlen_server.evidence.serializers import (
    DocumentSerializer,
    InquiryQuerySerializer,
    InquiryRowSerializer,
    InquirySerializer,
    MatchRequestSerializer,
    PlaceSerializer,
    ProbeRequestSerializer,
)
from varlen_server.people.roles import ASKING
from varlen_server.requests import body_of, query_of

_REFUSED = {422: MessageSerializer}


class InquiryList(APIView):
    @extend_schema(parameters=[InquiryQuerySerializer], responses=InquiryRowSerializer(many=True), operation_id="inquiries_list")
    def get(self, request: Request) -> Response:
        """Matches and probes, the newest first."""
        return Response(InquiryRowSerializer(Inquiry.objects.filter(**query_of(request, InquiryQuerySerializer)).defer("result"), many=True).data)


class InquiryDetail(APIView):
    @extend_schema(responses=InquirySerializer, operation_id="inquiries_detail")
    def get(self, request: Request, pk: int) -> Response:
        """One with its answer."""
        return Response(InquirySerializer(get_object_or_404(Inquiry, pk=pk)).data)

    @extend_schema(responses={204: None, 409: MessageSerializer}, operation_id="inquiries_delete")
    def delete(self, request: Request, pk: int) -> Response:
        """Delete one that has ended."""
        services.remove(get_object_or_404(Inquiry, pk=pk))
        return Response(status=204)


class InquiryCancel(APIView):
    @extend_schema(request=None, responses={200: InquirySerializer, 409: MessageSerializer}, operation_id="inquiries_cancel")
    def post(self, request: Request, pk: int) -> Response:
        """Stop it; the runs a probe has done are kept."""
        services.cancel(get_object_or_404(Inquiry, pk=pk))
        return Response(InquirySerializer(Inquiry.objects.get(pk=pk)).data)


class InquiryResume(APIView):
    @extend_schema(request=None, responses={200: InquirySerializer, 409: MessageSerializer}, operation_id="inquiries_resume")
    def post(self, request: Request, pk: int) -> Response:
        """Go on where it stopped."""
        services.resume(get_object_or_404(Inquiry, pk=pk))
        return Response(InquirySerializer(Inquiry.objects.get(pk=pk)).data)


class Matches(APIView):
    throttle_scope = "order"

    @extend_schema(request=MatchRequestSerializer, responses={201: InquirySerializer, **_REFUSED}, operation_id="matches_start")
    def post(self, request: Request) -> Response:
        """Compare training pictures and a pipeline's variants with pictures of the field."""
        wish = body_of(request, MatchRequestSerializer)
        dataset, field = (get_object_or_404(Dataset, pk=wish[name], ready=True) for name in ("dataset", "field"))
        return Response(InquirySerializer(services.ask_match(dataset, field, wish["document"])).data, status=201)


class Probes(APIView):
    throttle_scope = "order"

    @extend_schema(request=ProbeRequestSerializer, responses={201: InquirySerializer, **_REFUSED}, operation_id="probes_start")
    def post(self, request: Request) -> Response:
        """Train a small network with each pipeline and with none, and compare."""
        wish = body_of(request, ProbeRequestSerializer)
        dataset = get_object_or_404(Dataset, pk=wish["dataset"], ready=True)
        options = {"seeds": wish["seeds"], "minutes": wish["minutes"]}
        return Response(InquirySerializer(services.ask_probe(dataset, wish["documents"], options)).data, status=201)


class PlaceSteps(APIView):
    roles = ASKING

    @extend_schema(request=PlaceSerializer, responses={200: DocumentSerializer, **_REFUSED}, operation_id="matches_place")
    def post(self, request: Request) -> Response:
        """A pipeline with suggested steps where they belong in it."""
        from varlen.evidence.suggestion import with_steps

        wish = body_of(request, PlaceSerializer)
        return Response({"document": with_steps(from_json(wish["document"]), wish["steps"]).to_json()})
