"""Datasets: list, bring one in, pick images for the sheet, pictures by content."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from django.conf import settings
from django.http import HttpResponse
from drf_spectacular.utils import extend_schema
from numpy.typing import NDArray
from rest_framework.exceptions import NotFound, ValidationError
from rest_framework.generics import get_object_or_404
from rest_framework.parsers import MultiPartParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView
from varlen.datasets.edits import Edit
from varlen.datasets.formats import catalogue, title_of
from varlen.datasets.image_files import IMAGE_TYPES, decode, readable_exif

from varlen_server import content_store
from varlen_server.datasets import imports
from varlen_server.datasets.columns import columns_of, overview
from varlen_server.datasets.edits import apply_edits, delete_dataset, mend_finding, undo_last_edits, uses_of
from varlen_server.datasets.import_serializers import (
    FoldersQuerySerializer,
    FoldersSerializer,
    FormatSerializer,
    FormatsSerializer,
    ImportFilesSerializer,
    ImportOptionsSerializer,
    ImportRequestSerializer,
    ImportSerializer,
)
from varlen_server.datasets.models import Dataset, DatasetImport, Image
from varlen_server.datasets.serializers import (
    DatasetSerializer,
    DatasetUsesSerializer,
    EditRequestSerializer,
    FindingsSerializer,
    FreedSerializer,
    ImageFactsSerializer,
    ImagePageSerializer,
    ImageSerializer,
    ImagesQuerySerializer,
    MarksSerializer,
    MessageSerializer,
    OverviewSerializer,
    PixelQuerySerializer,
    PixelSerializer,
    SheetImagesQuerySerializer,
    SureQuerySerializer,
)
from varlen_server.datasets.services import findings_in, findings_of, images_for_sheet, load
from varlen_server.people.roles import ENDING, FOR_EDITORS
from varlen_server.previews import FOR_EVER, cached_picture, check_width, map_response, picture_response, preview
from varlen_server.requests import body_of, query_of


class DatasetList(APIView):
    @extend_schema(responses=DatasetSerializer(many=True), operation_id="datasets_list")
    def get(self, request: Request) -> Response:
        """All datasets."""
        return Response(DatasetSerializer(Dataset.objects.filter(ready=True), many=True).data)


class DatasetDetail(APIView):
    @extend_schema(responses=DatasetUsesSerializer, operation_id="datasets_uses")
    def get(self, request: Request, pk: int) -> Response:
        """What needs a dataset, and what would be free without it."""
        return Response(DatasetUsesSerializer(uses_of(get_object_or_404(Dataset, pk=pk))).data)

    @extend_schema(parameters=[SureQuerySerializer], responses={200: FreedSerializer, 409: MessageSerializer}, operation_id="datasets_delete")
    def delete(self, request: Request, pk: int) -> Response:
        """Delete a dataset and the pictures nothing else shows; where editions were made from it, only with a clear yes."""
        sure = query_of(request, SureQuerySerializer)["sure"]
        return Response(delete_dataset(get_object_or_404(Dataset, pk=pk), sure))


class Formats(APIView):
    @extend_schema(responses=FormatsSerializer, operation_id="formats_list")
    def get(self, request: Request) -> Response:
        """Every format that datasets are read from or written in, and what pictures can be coded as."""
        formats = [{**each._asdict(), "reading_title": title_of(each.name, reading=True)} for each in catalogue()]
        return Response({"formats": formats, "images": [each._asdict() for each in IMAGE_TYPES]})


class DatasetRows(APIView):
    @extend_schema(parameters=[SheetImagesQuerySerializer], responses=ImageSerializer(many=True), operation_id="datasets_rows")
    def get(self, request: Request, pk: int) -> Response:
        """A few images to look at: evenly spread, with the smallest or the most objects, or at random."""
        wish = query_of(request, SheetImagesQuerySerializer)
        dataset = get_object_or_404(Dataset, pk=pk)
        chosen = images_for_sheet(dataset, wish["pick"], wish["split"], wish["count"], wish["turn"], wish["images"][:60])
        return Response(ImageSerializer(chosen, many=True).data)


class DatasetImages(APIView):
    @extend_schema(parameters=[ImagesQuerySerializer], responses=ImagePageSerializer, operation_id="datasets_images")
    def get(self, request: Request, pk: int) -> Response:
        """A page of a dataset's images that meet all that is asked; of objects, one has to meet all."""
        wish = query_of(request, ImagesQuerySerializer)
        dataset = get_object_or_404(Dataset, pk=pk)
        rows = columns_of(dataset).chosen(wish, dataset.findings if "finding" in wish else [])
        page = rows[wish["offset"] : wish["offset"] + wish["count"]]
        images = dataset.images.filter(pk__in=page.tolist()).order_by("key")
        return Response(ImagePageSerializer({"total": len(rows), "images": images}).data)


class ImageFacts(APIView):
    @extend_schema(responses=ImageFactsSerializer, operation_id="images_facts")
    def get(self, request: Request, pk: int) -> Response:
        """One image: its file's facts, its objects' attributes, and what was found in it."""
        image = get_object_or_404(Image.objects.select_related("dataset"), pk=pk)
        data = content_store.path_of(settings.PICTURES, image.sha256).read_bytes()
        return Response(ImageFactsSerializer({"image": image, "exif": readable_exif(data), "findings": findings_in(image), **image.facts}).data)


class ImageMap(APIView):
    @extend_schema(responses={(200, "image/png"): bytes}, operation_id="images_map")
    def get(self, request: Request, pk: int) -> HttpResponse:
        """An image's label map as a gray PNG: every pixel's level is its class."""
        image = get_object_or_404(Image.objects.select_related("dataset"), pk=pk)
        levels = load(image.dataset_id, image.dataset.digest).label_map(image.key) if image.label_map and not image.left_out else None
        return map_response(levels)


class ImagePixel(APIView):
    @extend_schema(parameters=[PixelQuerySerializer], responses=PixelSerializer, operation_id="images_pixel")
    def get(self, request: Request, pk: int) -> Response:
        """The levels of one pixel of an image, upright as it is shown."""
        at = query_of(request, PixelQuerySerializer)
        image = get_object_or_404(Image.objects.select_related("dataset"), pk=pk)
        if not (at["x"] < image.width and at["y"] < image.height):
            raise ValidationError(f"The image is {image.width}×{image.height} px.")
        return Response({**at, "levels": decoded(image.sha256, image.key)[at["y"], at["x"]].tolist()}, headers={"Cache-Control": FOR_EVER})


@lru_cache(maxsize=4)
def decoded(sha256: str, key: str) -> NDArray[np.uint8]:
    """The last images that were pointed at."""
    return decode(content_store.path_of(settings.PICTURES, sha256).read_bytes(), key)


class DatasetOverview(APIView):
    @extend_schema(responses=OverviewSerializer, operation_id="datasets_overview")
    def get(self, request: Request, pk: int) -> Response:
        """Counts of classes, sizes, objects, boxes and keypoints, and the levels of the pictures."""
        dataset = get_object_or_404(Dataset, pk=pk)
        levels = {"mean": [], "std": [], "levels": [], "range": [], "split": "", **dataset.statistics}
        found = {**overview(columns_of(dataset)), **levels, "dataset": dataset, "label_map": dataset.map_classes,
                 "examining": dataset.examining, "examined": dataset.examined}  # fmt: skip
        if not dataset.images.exclude(label_map="").exists():
            found["label_map"] = []
        return Response(OverviewSerializer(found).data)


class DatasetMarks(APIView):
    @extend_schema(request=MarksSerializer, responses=MarksSerializer, operation_id="datasets_mark")
    def put(self, request: Request, pk: int) -> Response:
        """Say of classes what must not be done to them."""
        wish = body_of(request, MarksSerializer)
        dataset = get_object_or_404(Dataset, pk=pk)
        dataset.marks = {name: marks for name, marks in wish["marks"].items() if marks and name in dataset.classes}
        dataset.save(update_fields=["marks"])
        return Response({"marks": dataset.marks})


class DatasetFindings(APIView):
    @extend_schema(responses=FindingsSerializer, operation_id="datasets_findings")
    def get(self, request: Request, pk: int) -> Response:
        """What looked wrong when the dataset was imported, and what was changed since."""
        return Response(FindingsSerializer(findings_of(get_object_or_404(Dataset, pk=pk))).data)


class DatasetEdits(APIView):
    roles = ENDING

    @extend_schema(request=EditRequestSerializer, responses={201: FindingsSerializer, 422: MessageSerializer}, operation_id="datasets_edit")
    def post(self, request: Request, pk: int) -> Response:
        """Mend everything of one finding, or make one change; files stay as they are."""
        wish = body_of(request, EditRequestSerializer)
        dataset = get_object_or_404(Dataset, pk=pk)
        if kind := wish.get("finding"):
            mend_finding(dataset, kind)
        else:
            apply_edits(dataset, [Edit(wish.get("kind", ""), wish.get("image", ""), wish.get("object", ""), wish.get("value", ""))], "")
        return Response(FindingsSerializer(findings_of(dataset)).data, status=201)

    @extend_schema(responses=FindingsSerializer, operation_id="datasets_edit_undo")
    def delete(self, request: Request, pk: int) -> Response:
        """Take the last change back."""
        dataset = get_object_or_404(Dataset, pk=pk)
        undo_last_edits(dataset)
        return Response(FindingsSerializer(findings_of(dataset)).data)


class Picture(APIView):
    """A source picture by content at a given width; the address never shows anything else."""

    @extend_schema(responses={(200, "image/jpeg"): bytes}, operation_id="pictures_get")
    def get(self, request: Request, sha256: str, width: int) -> HttpResponse:
        """A source picture as JPEG, at most `width` px wide."""
        check_width(width)
        cached = settings.TILES / "sources" / sha256[:2] / f"{sha256}-{width}.jpg"

        def make() -> bytes:
            kept = content_store.path_of(settings.PICTURES, sha256)
            if not kept.is_file():
                raise NotFound("There is no such picture.")
            return preview(decode(kept.read_bytes(), sha256), width)

        return picture_response(cached_picture(cached, make))


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
        imports.recognise(found, wish.get("format", ""), wish.get("levels", ""), wish.get("reading"))
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
