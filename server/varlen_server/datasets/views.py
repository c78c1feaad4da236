"""Datasets: list, bring one in, pick images for the sheet, pictures by content."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.db.models import Count, Sum
from django.http import HttpResponse
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.exceptions import NotFound, ValidationError
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView
from varlen.datasets.edits import Edit
from varlen.datasets.image_files import decode, readable_exif
from varlen.datasets.splits import in_order
from varlen.datasets.summary import evenly_spaced

from varlen_server import store
from varlen_server.datasets.columns import columns_of, overview
from varlen_server.datasets.editing import make_edits, take_back
from varlen_server.datasets.library import load
from varlen_server.datasets.models import Dataset, Image
from varlen_server.datasets.serializers import (
    DatasetSerializer,
    EditRequestSerializer,
    FindingsSerializer,
    ImageFactsSerializer,
    ImagePageSerializer,
    ImageSerializer,
    MarksSerializer,
    MessageSerializer,
    OverviewSerializer,
)
from varlen_server.previews import check_width, map_response, picture_response, preview


def with_splits(dataset: Dataset) -> Dataset:
    """Attach the counts per split, in their usual order."""
    rows = dataset.images.filter(left_out=False).values("split").annotate(images=Count("id"), objects=Sum("object_count"))
    found = {row["split"]: row for row in rows}
    dataset.splits = [found[split] for split in in_order(found)]  # type: ignore[attr-defined]
    return dataset


class DatasetList(APIView):
    @extend_schema(responses=DatasetSerializer(many=True), operation_id="datasets_list")
    def get(self, request: Request) -> Response:
        """All datasets."""
        return Response(DatasetSerializer([with_splits(row) for row in Dataset.objects.filter(ready=True)], many=True).data)


class DatasetRows(APIView):
    @extend_schema(
        parameters=[OpenApiParameter("pick", str, enum=["spread", "smallest", "most", "random", "pinned"]), OpenApiParameter("count", int),
                    OpenApiParameter("split", str), OpenApiParameter("turn", int),
                    OpenApiParameter("images", str, description="numbers of images, with commas, for the pick “pinned”")],
        responses=ImageSerializer(many=True), operation_id="datasets_rows",
    )  # fmt: skip
    def get(self, request: Request, pk: int) -> Response:
        """A few images to look at: evenly spread, with the smallest or the most objects, or at random."""
        dataset = get_object_or_404(Dataset, pk=pk)
        images = dataset.images.filter(left_out=False, split=request.query_params.get("split", "train"))
        if not images.exists():
            images = dataset.images.filter(left_out=False)
        count = min(max(number_asked(request, "count", 6), 1), 60)
        match request.query_params.get("pick", "spread"):
            case "pinned":
                named = [int(part) for part in request.query_params.get("images", "").split(",") if part.isdigit()]
                chosen = list(dataset.images.filter(left_out=False, pk__in=named[:60]))
            case "smallest":
                chosen = list(images.filter(object_count__gt=0).order_by("smallest_side", "key")[:count])
            case "most":
                chosen = list(images.order_by("-object_count", "key")[:count])
            case "random":
                turn = number_asked(request, "turn", 0)
                drawn = sorted(images.values_list("sha256", "pk"), key=lambda pair: hash_turn(pair[0], turn))[:count]
                chosen = list(images.filter(pk__in=[key for _, key in drawn]))
            case _:
                keys = evenly_spaced(list(images.values_list("pk", flat=True)), count)
                chosen = list(images.filter(pk__in=keys))
        return Response(ImageSerializer(chosen, many=True).data)


def number_asked(request: Request, name: str, default: int) -> int:
    """A whole number from the address. Raises `ValidationError` for anything else."""
    try:
        return int(request.query_params.get(name, default))
    except ValueError:
        raise ValidationError(f"{name} must be a whole number.") from None


def hash_turn(digest: str, turn: int) -> int:
    """A number that orders images anew for every turn."""
    return (int(digest[:15], 16) * (2 * turn + 1) * 0x9E3779B97F4A7C15) % 2**64


_FILTERS = {
    "split": "a split", "class": "a class", "finding": "a kind of finding", "name": "part of the name", "size": "width×height of the image",
    "kind": "the sort of file, as the overview names it", "objects": "number of objects, low-high", "side": "side of an object, px, low-high",
    "width": "width of an object, px, low-high", "height": "height of an object, px, low-high", "aspect": "width over height of an object, low-high",
    "keypoint": "an object's keypoint and its state, name:visible",
}  # fmt: skip


class DatasetImages(APIView):
    @extend_schema(
        parameters=[OpenApiParameter("offset", int), OpenApiParameter("count", int),
                    *(OpenApiParameter(name, str, description=said) for name, said in _FILTERS.items())],
        responses=ImagePageSerializer, operation_id="datasets_images",
    )  # fmt: skip
    def get(self, request: Request, pk: int) -> Response:
        """A page of a dataset's images that meet all that is asked; of objects, one has to meet all."""
        dataset = get_object_or_404(Dataset, pk=pk)
        rows = columns_of(dataset).chosen(request.query_params, dataset.findings if "finding" in request.query_params else [])
        offset, count = max(number_asked(request, "offset", 0), 0), min(max(number_asked(request, "count", 60), 1), 200)
        images = dataset.images.filter(pk__in=rows[offset : offset + count].tolist()).order_by("key")
        return Response(ImagePageSerializer({"total": len(rows), "images": images}).data)


class ImageFacts(APIView):
    @extend_schema(responses=ImageFactsSerializer, operation_id="images_facts")
    def get(self, request: Request, pk: int) -> Response:
        """One image: its file's facts, its objects' attributes, and what was found in it."""
        image = get_object_or_404(Image.objects.select_related("dataset"), pk=pk)
        data = store.path_of(settings.PICTURES, image.sha256).read_bytes()
        found = [
            {"kind": each["kind"], "object": thing}
            for each in image.dataset.findings for place, thing in each["places"] if place == image.key
        ]  # fmt: skip
        return Response(ImageFactsSerializer({"image": image, "exif": readable_exif(data), "findings": found, **image.facts}).data)


class ImageMap(APIView):
    @extend_schema(responses={(200, "image/png"): bytes}, operation_id="images_map")
    def get(self, request: Request, pk: int) -> HttpResponse:
        """An image's label map as a gray PNG: every pixel's level is its class."""
        image = get_object_or_404(Image.objects.select_related("dataset"), pk=pk)
        levels = load(image.dataset_id, image.dataset.digest).label_map(image.key) if image.label_map and not image.left_out else None
        return map_response(levels)


class DatasetOverview(APIView):
    @extend_schema(responses=OverviewSerializer, operation_id="datasets_overview")
    def get(self, request: Request, pk: int) -> Response:
        """Counts of classes, sizes, objects, boxes and keypoints, and the levels of the pictures."""
        dataset = get_object_or_404(Dataset, pk=pk)
        levels = {"mean": [], "std": [], "levels": [], "range": [], "split": "", **dataset.statistics}
        found = {**overview(columns_of(dataset)), **levels, "dataset": with_splits(dataset), "label_map": dataset.map_classes,
                 "examining": dataset.examining, "examined": dataset.examined}  # fmt: skip
        if not dataset.images.exclude(label_map="").exists():
            found["label_map"] = []
        return Response(OverviewSerializer(found).data)


class DatasetMarks(APIView):
    @extend_schema(request=MarksSerializer, responses=MarksSerializer, operation_id="datasets_mark")
    def put(self, request: Request, pk: int) -> Response:
        """Say of classes what must not be done to them."""
        dataset = get_object_or_404(Dataset, pk=pk)
        body = MarksSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        dataset.marks = {name: marks for name, marks in body.validated_data["marks"].items() if marks and name in dataset.classes}
        dataset.save(update_fields=["marks"])
        return Response({"marks": dataset.marks})


class DatasetFindings(APIView):
    @extend_schema(responses=FindingsSerializer, operation_id="datasets_findings")
    def get(self, request: Request, pk: int) -> Response:
        """What looked wrong when the dataset was brought in, and what was changed since."""
        return Response(FindingsSerializer(_findings(get_object_or_404(Dataset, pk=pk))).data)


class DatasetEdits(APIView):
    @extend_schema(request=EditRequestSerializer, responses={201: FindingsSerializer, 422: MessageSerializer}, operation_id="datasets_edit")
    def post(self, request: Request, pk: int) -> Response:
        """Mend everything of one finding, or make one change; files stay as they are."""
        dataset = get_object_or_404(Dataset, pk=pk)
        body = EditRequestSerializer(data=request.data)
        body.is_valid(raise_exception=True)
        wish = body.validated_data
        if kind := wish.get("finding"):
            finding = next((each for each in dataset.findings if each["kind"] == kind), None)
            if finding is None or not finding["edit"]:
                raise NotFound("There is no such finding with a remedy.")
            make_edits(dataset, [Edit(finding["edit"], image, thing) for image, thing in finding["places"]], kind)
        else:
            make_edits(dataset, [Edit(wish.get("kind", ""), wish.get("image", ""), wish.get("object", ""), wish.get("value", ""))], "")
        return Response(FindingsSerializer(_findings(dataset)).data, status=201)

    @extend_schema(responses=FindingsSerializer, operation_id="datasets_edit_undo")
    def delete(self, request: Request, pk: int) -> Response:
        """Take the last change back."""
        dataset = get_object_or_404(Dataset, pk=pk)
        take_back(dataset)
        return Response(FindingsSerializer(_findings(dataset)).data)


def _findings(dataset: Dataset) -> dict[str, Any]:
    mended = set(dataset.edits.values_list("why", flat=True))
    batches: dict[int, dict[str, Any]] = {}
    for edit in dataset.edits.all():
        batch = batches.setdefault(edit.batch, {"why": edit.why, "kind": edit.kind, "count": 0, "example": edit.image_key})
        batch["count"] += 1
    findings = [{**finding, "mended": finding["kind"] in mended} for finding in dataset.findings]
    return {"findings": findings, "edits": list(batches.values()), "digest": dataset.digest}


class Picture(APIView):
    """A source picture by content at a given width; the address never shows anything else."""

    @extend_schema(responses={(200, "image/jpeg"): bytes}, operation_id="pictures_get")
    def get(self, request: Request, sha256: str, width: int) -> HttpResponse:
        """A source picture as JPEG, at most `width` px wide."""
        check_width(width)
        cached = settings.TILES / "sources" / sha256[:2] / f"{sha256}-{width}.jpg"
        if not cached.exists():
            kept = store.path_of(settings.PICTURES, sha256)
            if not kept.is_file():
                raise NotFound("There is no such picture.")
            pixels = decode(kept.read_bytes(), sha256)
            store.write_whole(cached, preview(pixels, width), lasting=False)
        return picture_response(cached.read_bytes())
