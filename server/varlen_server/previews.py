"""Pictures for the screen: small JPEGs at a few widths, at addresses that never show anything else; and answers that are kept."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import orjson
import simplejpeg
from django.conf import settings
from django.http import HttpResponse
from rest_framework.exceptions import NotFound
from varlen._version import __version__
from varlen.atomic_files import write_if_room
from varlen.datasets.image_files import encode
from varlen.kernels.resample import halved, shrunk


def cached_json(kind: str, question: list[Any], make: Callable[[], Any]) -> bytes:
    """The answer to `question` as JSON, from the disk or made now. question: all that the answer depends on, as JSON-able values."""
    name = hashlib.sha256(json.dumps([__version__, *question]).encode()).hexdigest()
    path: Path = settings.TILES / kind / f"{name}.json"
    if path.exists():
        return path.read_bytes()
    answer = orjson.dumps(make())
    write_if_room(path, answer)
    return answer


def cached_picture(path: Path, make: Callable[[], bytes]) -> bytes:
    """A picture from the disk, or made now and kept there if there is room."""
    try:
        return path.read_bytes()
    except FileNotFoundError:
        found = make()
    write_if_room(path, found)
    return found


#: Widths pictures are kept at for the screen.
WIDTHS = (160, 240, 320, 480, 640, 960, 1280, 1920)
FOR_EVER = "public, max-age=31536000, immutable"


def check_width(width: int) -> None:
    """Only a few widths, so that nobody fills the disk with sizes in between."""
    if width not in WIDTHS:
        raise NotFound(f"Pictures come {', '.join(map(str, WIDTHS))} px wide.")


def preview(pixels: Any, width: int) -> bytes:
    """A JPEG for the screen, at most `width` px wide."""
    # Means of four are quick, and leave less to shrink with care.
    while pixels.shape[1] >= 2 * width and pixels.shape[0] % 2 == 0 and pixels.shape[1] % 2 == 0:
        pixels = halved(pixels)
    if pixels.shape[1] > width:
        pixels = shrunk(pixels, width, max(1, round(pixels.shape[0] * width / pixels.shape[1])))
    return encode(pixels, "jpeg", 88)


def screen_jpeg(pixels: Any) -> bytes:
    """A small picture that is looked at for a moment, as JPEG: by a quicker coder than what is kept."""
    return bytes(simplejpeg.encode_jpeg(np.ascontiguousarray(pixels), 85, "RGB", "420"))


def map_response(levels: Any) -> HttpResponse:
    """A label map, (H, W) uint8, that browsers may keep for ever. Raises `NotFound` for None."""
    if levels is None:
        raise NotFound("This image has no label map.")
    return HttpResponse(encode(levels[:, :, None], "png"), content_type="image/png", headers={"Cache-Control": FOR_EVER})


def picture_response(data: bytes) -> HttpResponse:
    """A picture that browsers may keep for ever."""
    return HttpResponse(data, content_type="image/jpeg", headers={"Cache-Control": FOR_EVER})
