"""Datasets: list, bring one in, pick images for the sheet, pictures by content."""

from __future__ import annotations

import re
import shutil
import tempfile
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db.models import Count, Sum
from django.http import HttpResponse
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.exceptions import NotFound, ValidationError
from rest_framework.generics import get_object_or_404
from rest_framework.parsers import MultiPartParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView
from varlen.codec import decode, encode
from varlen.dataset import SPLITS
from varlen.raster.resample import shrunk
from varlen.sheet import spread

from varlen_server import store
from varlen_server.datasets.library import import_dataset
from varlen_server.datasets.models import Dataset, Image
from varlen_server.datasets.serializers import DatasetSerializer, ImageSerializer, MessageSerializer, UploadSerializer

#: Widths pictures are kept at for the screen.
WIDTHS = (160, 240, 320, 480, 640, 960, 1280, 1920)
FOR_EVER = "public, max-age=31536000, immutable"


def with_splits(dataset: Dataset) -> Dataset:
    """Attach the counts per split, in their usual order."""
    rows = dataset.images.values("split").annotate(images=Count("id"), objects=Sum("object_count"))
    found = {row["split"]: row for row in rows}
    order = [split for split in SPLITS if split in found] + sorted(set(found) - set(SPLITS))
    dataset.splits = [found[split] for split in order]  # type: ignore[attr-defined]
    return dataset


class DatasetList(APIView):
    @extend_schema(responses=DatasetSerializer(many=True), operation_id="datasets_list")
    def get(self, request: Request) -> Response:
        """All datasets."""
        return Response(DatasetSerializer([with_splits(row) for row in Dataset.objects.all()], many=True).data)


class DatasetUpload(APIView):
    parser_classes = (MultiPartParser,)

    @extend_schema(
        request={"multipart/form-data": UploadSerializer}, responses={201: DatasetSerializer, 422: MessageSerializer}, operation_id="datasets_upload"
    )
    def post(self, request: Request) -> Response:
        """Bring a dataset in as a zip."""
        upload = request.FILES.get("file")
        if upload is None:
            raise ValidationError("Choose a zip with a dataset in it.")
        if upload.size > settings.LARGEST_UPLOAD:
            raise ValidationError(f"{upload.name} is larger than {settings.LARGEST_UPLOAD >> 30} GB.")
        settings.UPLOADS.mkdir(parents=True, exist_ok=True)
        folder = Path(tempfile.mkdtemp(dir=settings.UPLOADS))
        try:
            name = re.sub(r"[^\w. -]", "_", Path(str(upload.name)).name) or "dataset.zip"
            path = folder / name
            with path.open("wb") as target:
                for block in upload.chunks():
                    target.write(block)
            dataset = import_dataset(path, request.data.get("name") or path.stem)
        finally:
            shutil.rmtree(folder, ignore_errors=True)
        return Response(DatasetSerializer(with_splits(dataset)).data, status=201)


class DatasetRows(APIView):
    @extend_schema(
        parameters=[OpenApiParameter("pick", str, enum=["spread", "smallest", "most", "random"]), OpenApiParameter("count", int),
                    OpenApiParameter("split", str), OpenApiParameter("turn", int)],
        responses=ImageSerializer(many=True), operation_id="datasets_rows",
    )  # fmt: skip
    def get(self, request: Request, pk: int) -> Response:
        """A few images to look at: evenly spread, with the smallest or the most objects, or at random."""
        dataset = get_object_or_404(Dataset, pk=pk)
        images = dataset.images.filter(split=request.query_params.get("split", "train"))
        if not images.exists():
            images = dataset.images.all()
        count = min(max(_number(request, "count", 6), 1), 60)
        match request.query_params.get("pick", "spread"):
            case "smallest":
                chosen = list(images.filter(object_count__gt=0).order_by("smallest_side", "key")[:count])
            case "most":
                chosen = list(images.order_by("-object_count", "key")[:count])
            case "random":
                turn = _number(request, "turn", 0)
                drawn = sorted(images.values_list("sha256", "pk"), key=lambda pair: hash_turn(pair[0], turn))[:count]
                chosen = list(images.filter(pk__in=[key for _, key in drawn]))
            case _:
                keys = spread(list(images.values_list("pk", flat=True)), count)
                chosen = list(images.filter(pk__in=keys))
        return Response(ImageSerializer(chosen, many=True).data)


def _number(request: Request, name: str, default: int) -> int:
    try:
        return int(request.query_params.get(name, default))
    except ValueError:
        raise ValidationError(f"{name} must be a whole number.") from None


def hash_turn(digest: str, turn: int) -> int:
    """A number that orders images anew for every turn."""
    return (int(digest[:15], 16) * (2 * turn + 1) * 0x9E3779B97F4A7C15) % 2**64


class Picture(APIView):
    """A source picture by content at a given width; the address never shows anything else."""

    @extend_schema(responses={(200, "image/jpeg"): bytes}, operation_id="pictures_get")
    def get(self, request: Request, sha256: str, width: int) -> HttpResponse:
        """A source picture as JPEG, at most `width` px wide."""
        check_width(width)
        image = Image.objects.filter(sha256=sha256).first()
        if image is None:
            raise NotFound("There is no such picture.")
        cached = settings.TILES / "sources" / sha256[:2] / f"{sha256}-{width}.jpg"
        if not cached.exists():
            pixels = decode(store.path_of(settings.PICTURES, sha256).read_bytes(), image.key)
            store.write_whole(cached, preview(pixels, width), lasting=False)
        return picture_response(cached.read_bytes())


def check_width(width: int) -> None:
    """Only a few widths, so that nobody fills the disk with sizes in between."""
    if width not in WIDTHS:
        raise NotFound(f"Pictures come {', '.join(map(str, WIDTHS))} px wide.")


def preview(pixels: Any, width: int) -> bytes:
    """A JPEG for the screen, at most `width` px wide."""
    if pixels.shape[1] > width:
        pixels = shrunk(pixels, width, max(1, round(pixels.shape[0] * width / pixels.shape[1])))
    return encode(pixels, "jpeg", 88)


def picture_response(data: bytes) -> HttpResponse:
    """A picture that browsers may keep for ever."""
    return HttpResponse(data, content_type="image/jpeg", headers={"Cache-Control": FOR_EVER})
