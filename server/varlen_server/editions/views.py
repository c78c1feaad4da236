"""Editions: make, watch, cancel, download."""

from __future__ import annotations

import re

from django.db import transaction
from django.http import StreamingHttpResponse
from drf_spectacular.utils import extend_schema
from rest_framework.exceptions import NotFound
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView
from varlen.export import Order
from varlen.pipeline import from_json

from varlen_server.datasets.models import Dataset
from varlen_server.datasets.serializers import MessageSerializer
from varlen_server.datasets.views import with_splits
from varlen_server.editions.models import Edition
from varlen_server.editions.serializers import EditionRequestSerializer, EditionSerializer
from varlen_server.editions.tasks import make_edition
from varlen_server.editions.zipping import stream_zip
from varlen_server.pipelines.models import Revision


class EditionList(APIView):
    @extend_schema(responses=EditionSerializer(many=True), operation_id="editions_list")
    def get(self, request: Request) -> Response:
        """All editions, newest first."""
        return Response(EditionSerializer(Edition.objects.select_related("dataset"), many=True).data)

    @extend_schema(request=EditionRequestSerializer, responses={201: EditionSerializer, 422: MessageSerializer}, operation_id="editions_create")
    def post(self, request: Request) -> Response:
        """Order an edition; it is made in the background."""
        body = EditionRequestSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        wish = body.validated_data
        dataset = with_splits(get_object_or_404(Dataset, pk=wish["dataset"]))
        pipeline = from_json(wish["document"])
        order = {name: wish[name] for name in ("variants", "originals", "format", "image", "quality")}
        total = sum(Order(**order).counts({row["split"]: row["images"] for row in dataset.splits}).values())  # type: ignore[attr-defined]
        with transaction.atomic():
            # The job is part of the same transaction: both are there or neither is.
            edition = Edition.objects.create(name=wish["name"], dataset=dataset, document=pipeline.to_json(), order=order, total=total,
                                             revision=Revision.objects.filter(pk=wish.get("revision")).first())  # fmt: skip
            make_edition.defer(edition_id=edition.pk)
        return Response(EditionSerializer(edition).data, status=201)


class EditionDetail(APIView):
    @extend_schema(responses=EditionSerializer, operation_id="editions_get")
    def get(self, request: Request, pk: int) -> Response:
        """One edition and its progress."""
        return Response(EditionSerializer(get_object_or_404(Edition, pk=pk)).data)


class EditionCancel(APIView):
    @extend_schema(request=None, responses=EditionSerializer, operation_id="editions_cancel")
    def post(self, request: Request, pk: int) -> Response:
        """Stop making an edition; what was written of it is removed."""
        edition = get_object_or_404(Edition, pk=pk)
        Edition.objects.filter(pk=pk, state=Edition.State.WAITING).update(state=Edition.State.CANCELLED, message="cancelled")
        Edition.objects.filter(pk=pk, state=Edition.State.WRITING).update(stop_asked=True)
        edition.refresh_from_db()
        return Response(EditionSerializer(edition).data)


class EditionDownload(APIView):
    @extend_schema(responses={(200, "application/zip"): bytes}, operation_id="editions_download")
    def get(self, request: Request, pk: int) -> StreamingHttpResponse:
        """The edition as a zip."""
        edition = get_object_or_404(Edition, pk=pk)
        if edition.state != Edition.State.DONE or not edition.folder.exists():
            raise NotFound("This edition is not there to download.")
        name = re.sub(r"[^\w.-]+", "-", edition.name).strip("-") or f"edition-{pk}"
        headers = {"Content-Disposition": f'attachment; filename="{name}.zip"'}
        return StreamingHttpResponse(stream_zip(edition.folder), content_type="application/zip", headers=headers)
