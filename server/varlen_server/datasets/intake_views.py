"""Bring a dataset in: gather files or name a folder, see what was recognised, choose, start, watch, cancel."""

from __future__ import annotations

import re
import shutil
import tempfile
from datetime import timedelta
from pathlib import Path, PurePosixPath
from typing import Any

from django.conf import settings
from django.db import transaction
from django.http import HttpResponse
from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.exceptions import NotFound, ValidationError
from rest_framework.generics import get_object_or_404
from rest_framework.parsers import MultiPartParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView
from varlen.datasets.image_files import decode
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.importer import preview_dataset
from varlen.datasets.sources import open_files
from varlen.errors import DatasetError

from varlen_server.datasets.models import Intake
from varlen_server.datasets.serializers import (
    ChoicesSerializer,
    FoldersSerializer,
    FormatSerializer,
    IntakeFilesSerializer,
    IntakeRequestSerializer,
    IntakeSerializer,
    MessageSerializer,
)
from varlen_server.datasets.tasks import bring_dataset_in, clear
from varlen_server.previews import picture_response, preview

MOST_FOLDERS = 500
_OPEN = (Intake.State.GATHERING, Intake.State.RECOGNISED)


class IntakeList(APIView):
    @extend_schema(request=IntakeRequestSerializer, responses={201: IntakeSerializer, 422: MessageSerializer}, operation_id="intakes_create")
    def post(self, request: Request) -> Response:
        """Begin to bring a dataset in: its files follow, or a folder is named."""
        body = IntakeRequestSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        _clear_forgotten()
        if named := body.validated_data.get("folder"):
            path = allowed(named)
            intake = Intake(name=body.validated_data.get("name") or path.stem, path=str(path))
            intake.recognised = preview_dataset(path)
            intake.state = Intake.State.RECOGNISED
        else:
            settings.UPLOADS.mkdir(parents=True, exist_ok=True)
            folder = tempfile.mkdtemp(dir=settings.UPLOADS)
            intake = Intake(name=body.validated_data.get("name") or "dataset", folder=folder, path=folder)
        intake.save()
        return Response(IntakeSerializer(intake).data, status=201)


class IntakeDetail(APIView):
    @extend_schema(responses=IntakeSerializer, operation_id="intakes_get")
    def get(self, request: Request, pk: int) -> Response:
        """How far a dataset has come in."""
        return Response(IntakeSerializer(get_object_or_404(Intake, pk=pk)).data)

    @extend_schema(responses=IntakeSerializer, operation_id="intakes_cancel")
    def delete(self, request: Request, pk: int) -> Response:
        """Stop bringing a dataset in; nothing of it stays."""
        waiting = (*_OPEN, Intake.State.WAITING)
        if Intake.objects.filter(pk=pk, state__in=waiting).update(state=Intake.State.CANCELLED, message="cancelled"):
            clear(Intake.objects.get(pk=pk))
        Intake.objects.filter(pk=pk, state=Intake.State.READING).update(stop_asked=True)
        return Response(IntakeSerializer(get_object_or_404(Intake, pk=pk)).data)


class IntakeFiles(APIView):
    parser_classes = (MultiPartParser,)

    @extend_schema(request={"multipart/form-data": IntakeFilesSerializer}, responses={200: IntakeSerializer, 422: MessageSerializer},
                   operation_id="intakes_files")  # fmt: skip
    def post(self, request: Request, pk: int) -> Response:
        """Add files: one zip, or as many files of a folder as a request can hold."""
        intake = get_object_or_404(Intake, pk=pk, state__in=_OPEN)
        files, paths = request.FILES.getlist("file"), request.POST.getlist("path")
        if not files:
            raise ValidationError("There is no file in the request.")
        if paths and len(paths) != len(files):
            raise ValidationError("There must be a path for each file, or none at all.")
        folder = Path(intake.folder)
        for upload, place in zip(files, paths or [str(upload.name) for upload in files], strict=True):
            if upload.size > settings.LARGEST_UPLOAD:
                raise ValidationError(f"{upload.name} is larger than {settings.LARGEST_UPLOAD >> 30} GB.")
            target = folder / "files" / _safe(place)
            target.parent.mkdir(parents=True, exist_ok=True)
            with target.open("wb") as out:
                for block in upload.chunks():
                    out.write(block)
        return Response(IntakeSerializer(intake).data)


class IntakeRecognise(APIView):
    @extend_schema(request=FormatSerializer, responses={200: IntakeSerializer, 422: MessageSerializer}, operation_id="intakes_recognise")
    def post(self, request: Request, pk: int) -> Response:
        """See what the files are, of themselves or read as another format; nothing is kept of it."""
        intake = get_object_or_404(Intake, pk=pk, state__in=_OPEN)
        if intake.folder:
            intake.path = str(_root(Path(intake.folder) / "files"))
        intake.recognised = preview_dataset(Path(intake.path), request.data.get("format", ""))
        intake.state = Intake.State.RECOGNISED
        intake.save(update_fields=["path", "recognised", "state"])
        return Response(IntakeSerializer(intake).data)


class IntakeStart(APIView):
    @extend_schema(request=ChoicesSerializer, responses={200: IntakeSerializer, 422: MessageSerializer}, operation_id="intakes_start")
    def post(self, request: Request, pk: int) -> Response:
        """Bring the dataset in as chosen, in the background."""
        body = ChoicesSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        wish: dict[str, Any] = dict(body.validated_data)
        name = wish.pop("name", "")
        with transaction.atomic():
            intake = get_object_or_404(Intake.objects.select_for_update(), pk=pk, state=Intake.State.RECOGNISED)
            wish.setdefault("form", intake.recognised["format"])
            ImportOptions.from_json(wish).class_names(each["name"] for each in intake.recognised["classes"])
            intake.choices, intake.name = wish, name or intake.name
            intake.total, intake.state = intake.recognised["images"], Intake.State.WAITING
            intake.save()
            bring_dataset_in.defer(intake_id=intake.pk)
        return Response(IntakeSerializer(intake).data)


class IntakeExample(APIView):
    @extend_schema(responses={(200, "image/jpeg"): bytes}, operation_id="intakes_example")
    def get(self, request: Request, pk: int) -> HttpResponse:
        """The picture of the example that was recognised."""
        intake = get_object_or_404(Intake, pk=pk, state__in=_OPEN)
        if not intake.recognised:
            raise NotFound("Nothing was recognised yet.")
        key = intake.recognised["example"]["key"]
        answer = picture_response(preview(decode(open_files(intake.path).read(key), key), 640))
        answer["Cache-Control"] = "no-store"
        return answer


class Folders(APIView):
    @extend_schema(parameters=[OpenApiParameter("path", str)], responses=FoldersSerializer, operation_id="folders_list")
    def get(self, request: Request) -> Response:
        """Folders and zips below an allowed folder; without a path, the allowed ones."""
        asked = request.query_params.get("path", "")
        if not asked:
            roots = [{"path": str(path), "name": str(path), "dataset": False} for path in settings.FOLDERS if path.is_dir()]
            return Response(FoldersSerializer({"path": "", "above": None, "folders": roots}).data)
        path = allowed(asked)
        if not path.is_dir():
            raise NotFound(f"{path} is not a folder.")
        found = [child for child in sorted(path.iterdir()) if not child.name.startswith(".") and (child.is_dir() or child.suffix.lower() == ".zip")]
        above = "" if path in settings.FOLDERS else str(path.parent)
        folders = [{"path": str(child), "name": child.name, "dataset": _looks_like_one(child)} for child in found[:MOST_FOLDERS]]
        return Response(FoldersSerializer({"path": str(path), "above": above, "folders": folders}).data)


def allowed(text: str) -> Path:
    """A path on this machine below an allowed folder, links followed. Raises `DatasetError`."""
    path = Path(text).expanduser().resolve()
    if not any(path.is_relative_to(root) for root in settings.FOLDERS):
        raise DatasetError(f"{text}: not below {' or '.join(map(str, settings.FOLDERS))}; VARLEN_FOLDERS names the folders to bring datasets from")
    if not path.exists():
        raise DatasetError(f"{path}: no such file or folder")
    return path


def _looks_like_one(path: Path) -> bool:
    signs = {"annotations", "images", "data.yaml", "JPEGImages", "Annotations", "train"}
    try:
        return path.suffix.lower() == ".zip" or any(child.name in signs for child in path.iterdir())
    except OSError:
        return False


def _safe(place: str) -> Path:
    """A path within the folder of the upload. Raises `ValidationError` for one that leads out of it."""
    path = PurePosixPath(place.replace("\\", "/"))
    if path.is_absolute() or ".." in path.parts or "\x00" in place or not path.name:
        raise ValidationError(f"{place!r} leads out of the dataset's folder.")
    return Path(*(re.sub(r"[\x00-\x1f]", "_", part) for part in path.parts))


def _root(files: Path) -> Path:
    """What was gathered: the one zip, or the folder; one folder around everything is only wrapping."""
    if not files.is_dir():
        raise DatasetError("There is no file yet.")
    inside = list(files.iterdir())
    if len(inside) == 1 and (inside[0].is_dir() or inside[0].suffix.lower() == ".zip"):
        return inside[0]
    return files


def _clear_forgotten() -> None:
    """Uploads that nobody went on with for a day."""
    for intake in Intake.objects.filter(state__in=_OPEN, created__lt=timezone.now() - timedelta(days=1)):
        clear(intake)
        intake.delete()
    known = set(Intake.objects.exclude(folder="").values_list("folder", flat=True))
    for folder in settings.UPLOADS.glob("*") if settings.UPLOADS.exists() else ():
        if str(folder) not in known and folder.stat().st_mtime < timezone.now().timestamp() - 86400:
            shutil.rmtree(folder, ignore_errors=True)
