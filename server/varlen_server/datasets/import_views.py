"""Importing a dataset: gather files or name a folder, see what was recognised, choose options, start, watch, cancel."""

from __future__ import annotations

from django.http import HttpResponse
from drf_spectacular.utils import extend_schema
from rest_framework.generics import get_object_or_404
from rest_framework.parsers import MultiPartParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from varlen_server.datasets import imports
from varlen_server.datasets.models import DatasetImport
from varlen_server.datasets.serializers import (
    FoldersQuerySerializer,
    FoldersSerializer,
    FormatSerializer,
    ImportFilesSerializer,
    ImportOptionsSerializer,
    ImportRequestSerializer,
    ImportSerializer,
    MessageSerializer,
)
from varlen_server.people.roles import ENDING, FOR_EDITORS
from varlen_server.previews import picture_response
from varlen_server.requests import body_of, query_of


class ImportList(APIView):
    throttle_scope = "order"

    @extend_schema(request=ImportRequestSerializer, responses={201: ImportSerializer, 422: MessageSerializer}, operation_id="imports_create")
    def post(self, request: Request) -> Response:
        """Begin to import a dataset: its files follow, or a folder is named."""
        wish = body_of(request, ImportRequestSerializer)
        return Response(ImportSerializer(imports.begin(wish.get("name", ""), wish.get("folder", ""))).data, status=201)


class ImportDetail(APIView):
    roles = ENDING

    @extend_schema(responses=ImportSerializer, operation_id="imports_get")
    def get(self, request: Request, pk: int) -> Response:
        """How far an import is."""
        return Response(ImportSerializer(get_object_or_404(DatasetImport, pk=pk)).data)

    @extend_schema(responses=ImportSerializer, operation_id="imports_cancel")
    def delete(self, request: Request, pk: int) -> Response:
        """Stop an import; nothing of it stays."""
        imports.cancel(pk)
        return Response(ImportSerializer(get_object_or_404(DatasetImport, pk=pk)).data)


class ImportFiles(APIView):
    parser_classes = (MultiPartParser,)

    @extend_schema(request={"multipart/form-data": ImportFilesSerializer}, responses={200: ImportSerializer, 422: MessageSerializer},
                   operation_id="imports_files")  # fmt: skip
    def post(self, request: Request, pk: int) -> Response:
        """Add files: one zip, or as many files of a folder as a request can hold."""
        found = imports.open_import_or_404(pk)
        imports.add_files(found, request.FILES.getlist("file"), request.POST.getlist("path"))
        return Response(ImportSerializer(found).data)


class ImportRecognise(APIView):
    @extend_schema(request=FormatSerializer, responses={200: ImportSerializer, 422: MessageSerializer}, operation_id="imports_recognise")
    def post(self, request: Request, pk: int) -> Response:
        """See what the files are, of themselves or read as another format; nothing is imported yet."""
        found = imports.open_import_or_404(pk)
        wish = body_of(request, FormatSerializer)
        imports.recognise(found, wish.get("format", ""), wish.get("levels", ""))
        return Response(ImportSerializer(found).data)


class ImportStart(APIView):
    throttle_scope = "order"

    @extend_schema(request=ImportOptionsSerializer, responses={200: ImportSerializer, 422: MessageSerializer}, operation_id="imports_start")
    def post(self, request: Request, pk: int) -> Response:
        """Import the dataset with these options, in the background."""
        options = body_of(request, ImportOptionsSerializer)
        name = options.pop("name", "")
        return Response(ImportSerializer(imports.start(pk, dict(options), name)).data)


class ImportExample(APIView):
    @extend_schema(responses={(200, "image/jpeg"): bytes}, operation_id="imports_example")
    def get(self, request: Request, pk: int) -> HttpResponse:
        """The picture of the example that was recognised."""
        answer = picture_response(imports.example_picture(imports.open_import_or_404(pk)))
        answer["Cache-Control"] = "no-store"
        return answer


class Folders(APIView):
    roles = FOR_EDITORS

    @extend_schema(parameters=[FoldersQuerySerializer], responses=FoldersSerializer, operation_id="folders_list")
    def get(self, request: Request) -> Response:
        """Folders and zips below an allowed folder; without a path, the allowed ones."""
        return Response(FoldersSerializer(imports.folders_below(query_of(request, FoldersQuerySerializer)["path"])).data)
