"""Editions: order, watch, cancel, resume, check, download."""

from __future__ import annotations

import re
import shutil
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import transaction
from django.http import HttpRequest
from django.http.response import HttpResponseBase
from drf_spectacular.utils import extend_schema
from rest_framework.exceptions import NotFound
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView
from varlen.editions.export_spec import ExportSpec
from varlen.pipeline.document import from_json

from varlen_server.datasets.models import Dataset
from varlen_server.datasets.serializers import MessageSerializer
from varlen_server.datasets.views import with_splits
from varlen_server.editions.models import Edition
from varlen_server.editions.ranges import zip_response
from varlen_server.editions.serializers import (
    EditionRequestSerializer,
    EditionSerializer,
    EstimateRequestSerializer,
    EstimateSerializer,
    ResumeSerializer,
)
from varlen_server.editions.tasks import check_edition, make_edition
from varlen_server.editions.zipping import Zip
from varlen_server.errors import Conflict
from varlen_server.pipelines.library import register
from varlen_server.pipelines.models import Revision
from varlen_server.sheet.cost import cost_of_one, seconds_for
from varlen_server.sheet.renderers import renderer_of


def order_of(wish: dict[str, Any]) -> ExportSpec:
    """What is ordered. Raises `EditionError` for what can't be."""
    return ExportSpec(**ExportSpec.fields_of(wish))


def total_of(dataset: Dataset, order: ExportSpec) -> dict[str, int]:
    """How many images come out per split."""
    return order.counts({row["split"]: row["images"] for row in with_splits(dataset).splits})  # type: ignore[attr-defined]


def make(name: str, dataset: Dataset, document: dict[str, Any], order: ExportSpec, revision: Revision | None, leave_out: bool = False) -> Edition:
    """Order an edition; record and job are of one transaction: both are there or neither is."""
    pipeline = from_json(document)
    register(pipeline)
    with transaction.atomic():
        edition = Edition.objects.create(
            name=name, dataset=dataset, dataset_digest=dataset.digest, dataset_name=dataset.name, document=pipeline.to_json(),
            pipeline_digest=pipeline.digest, order=order.to_json(), total=sum(total_of(dataset, order).values()), revision=revision,
            leave_out=leave_out,
        )  # fmt: skip
        make_edition.defer(edition_id=edition.pk)
    return edition


def edition_or_404(pk: int) -> Edition:
    """An edition with what it is made from."""
    return get_object_or_404(Edition.objects.select_related("dataset", "revision"), pk=pk)


def done_or_404(pk: int) -> Edition:
    """An edition that is done and in its folder."""
    edition = edition_or_404(pk)
    if edition.state != Edition.State.DONE or not edition.folder.exists():
        raise NotFound("This edition is not there: it is not done, or its folder is gone.")
    return edition


def remove(edition: Edition) -> None:
    """Take an edition away. Its folder loses its name first: one that is half gone must not be found again as an edition."""
    going = edition.folder.with_name(f".{edition.folder.name}.removed")
    shutil.rmtree(going, ignore_errors=True)
    if edition.folder.exists():
        edition.folder.rename(going)
    edition.delete()
    for folder in (going, edition.part):
        shutil.rmtree(folder, ignore_errors=True)


class EditionList(APIView):
    @extend_schema(responses=EditionSerializer(many=True), operation_id="editions_list")
    def get(self, request: Request) -> Response:
        """All editions, newest first."""
        return Response(EditionSerializer(Edition.objects.select_related("dataset", "revision"), many=True).data)

    @extend_schema(request=EditionRequestSerializer, responses={201: EditionSerializer, 422: MessageSerializer}, operation_id="editions_create")
    def post(self, request: Request) -> Response:
        """Order an edition; it is made in the background."""
        body = EditionRequestSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        wish = body.validated_data
        dataset = get_object_or_404(Dataset, pk=wish["dataset"])
        revision = Revision.objects.filter(pk=wish.get("revision")).first()
        edition = make(wish["name"], dataset, wish["document"], order_of(wish), revision, wish["leave_out"])
        return Response(EditionSerializer(edition).data, status=201)


class EditionEstimate(APIView):
    @extend_schema(request=EstimateRequestSerializer, responses={200: EstimateSerializer, 422: MessageSerializer}, operation_id="editions_estimate")
    def post(self, request: Request) -> Response:
        """What an edition would hold, and about how many bytes and seconds it takes."""
        body = EstimateRequestSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        wish = body.validated_data
        dataset, pipeline, order = get_object_or_404(Dataset, pk=wish["dataset"]), from_json(wish["document"]), order_of(wish)
        counts = total_of(dataset, order)
        renderer = renderer_of(dataset.pk, dataset.digest, pipeline)
        size, seconds = cost_of_one(renderer, dataset.digest, order)
        total = sum(counts.values())
        settings.EDITIONS.mkdir(parents=True, exist_ok=True)
        return Response({"counts": counts, "total": total, "bytes": round(size * total), "free": shutil.disk_usage(settings.EDITIONS).free,
                         "seconds": seconds_for(total, seconds)})  # fmt: skip


class EditionDetail(APIView):
    @extend_schema(responses=EditionSerializer, operation_id="editions_get")
    def get(self, request: Request, pk: int) -> Response:
        """One edition and its progress."""
        return Response(EditionSerializer(edition_or_404(pk)).data)

    @extend_schema(responses={204: None, 409: MessageSerializer}, operation_id="editions_remove")
    def delete(self, request: Request, pk: int) -> Response:
        """Remove an edition with its folder and scores; one that is being made must be cancelled first."""
        edition = edition_or_404(pk)
        if edition.state in (Edition.State.WAITING, Edition.State.WRITING):
            raise Conflict("It is being made; cancel it first.")
        remove(edition)
        return Response(status=204)


class EditionCancel(APIView):
    @extend_schema(request=None, responses=EditionSerializer, operation_id="editions_cancel")
    def post(self, request: Request, pk: int) -> Response:
        """Stop making an edition; what was written of it is removed."""
        edition = edition_or_404(pk)
        if Edition.objects.filter(pk=pk, state__in=[Edition.State.WAITING, Edition.State.STOPPED]).update(
            state=Edition.State.CANCELLED, message="cancelled"
        ):
            shutil.rmtree(edition.part, ignore_errors=True)
        Edition.objects.filter(pk=pk, state=Edition.State.WRITING).update(stop_asked=True)
        edition.refresh_from_db()
        return Response(EditionSerializer(edition).data)


class EditionResume(APIView):
    @extend_schema(request=ResumeSerializer, responses=EditionSerializer, operation_id="editions_resume")
    def post(self, request: Request, pk: int) -> Response:
        """Go on with an edition that was stopped, with the images it has; `leave_out`: without those that can't be made."""
        body = ResumeSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        edition = edition_or_404(pk)
        with transaction.atomic():
            if Edition.objects.filter(pk=pk, state__in=[Edition.State.STOPPED, Edition.State.FAILED]).update(
                state=Edition.State.WAITING, message="", finished=None, leave_out=edition.leave_out or body.validated_data["leave_out"]
            ):
                make_edition.defer(edition_id=pk)
        edition.refresh_from_db()
        return Response(EditionSerializer(edition).data)


class EditionCheck(APIView):
    @extend_schema(request=None, responses=EditionSerializer, operation_id="editions_check")
    def post(self, request: Request, pk: int) -> Response:
        """Hold every file of an edition against its record, in the background."""
        edition = done_or_404(pk)
        with transaction.atomic():
            Edition.objects.filter(pk=pk).update(check_state={"state": "checking", "done": 0})
            check_edition.defer(edition_id=pk)
        edition.refresh_from_db()
        return Response(EditionSerializer(edition).data)


class EditionDownload(APIView):
    @extend_schema(responses={(200, "application/zip"): bytes, (206, "application/zip"): bytes}, operation_id="editions_download")
    def get(self, request: Request, pk: int) -> HttpResponseBase:
        """The edition as a zip; a part of it for a request with a range."""
        edition = done_or_404(pk)
        name = re.sub(r"[^\w.-]+", "-", edition.name).strip("-") or f"edition-{pk}"
        # Scores come later and are no part of what was made, but of what is downloaded.
        version = f"{edition.output_digest.removeprefix('sha256:')[:32]}-{_changed(edition.folder)}"
        return zip_response(_plain(request), Zip(edition.folder, version), f"{name}.zip", f'"{version}"')


def _plain(request: Request) -> HttpRequest:
    return request._request


def _changed(folder: Path) -> int:
    """When something was last put beside the edition's files."""
    return max(path.stat().st_mtime_ns for path in (folder, *folder.glob("*.json*")))
