"""Little trees of files for tests, written from a table: what lies where, and what it holds."""

from __future__ import annotations

import io
import json
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

Content = Any
"""A picture's (width, height); an array for a picture of just these levels; text or bytes; anything else as JSON."""


def write_tree(folder: Path, files: dict[str, Content]) -> Path:
    """Write the files; each picture of a size gets pixels of its own, so that no two are equal."""
    for number, (path, content) in enumerate(files.items()):
        target = folder / path
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(data_of(target.suffix.lower(), content, number))
    return folder


def data_of(suffix: str, content: Content, number: int = 0) -> bytes:
    """A file's bytes."""
    if isinstance(content, bytes):
        return content
    if isinstance(content, str):
        return content.encode()
    if isinstance(content, np.ndarray):
        return picture_of(content, suffix)
    if isinstance(content, tuple):
        width, height = content
        rows, columns = np.mgrid[0:height, 0:width]
        pixels = np.stack([(columns * 3 + number * 7) % 256, (rows * 5 + number) % 256, np.full_like(rows, number % 256)], axis=2)
        return picture_of(pixels.astype(np.uint8), suffix)
    return json.dumps(content).encode()


def picture_of(pixels: np.ndarray[Any, Any], suffix: str) -> bytes:
    """A picture file with these pixels; a bool array is one bit a pixel."""
    stream = io.BytesIO()
    kind = {".png": "PNG", ".bmp": "BMP", ".tif": "TIFF", ".tiff": "TIFF", ".webp": "WEBP"}.get(suffix, "JPEG")
    Image.fromarray(pixels).save(stream, kind)
    return stream.getvalue()


def coco(images: list[dict[str, Any]], annotations: list[dict[str, Any]], names: tuple[str, ...] = ("moth", "lamp"), **more: Any) -> dict[str, Any]:
    """An annotation file in COCO form."""
    return {"images": images, "annotations": annotations, "categories": [{"id": n + 1, "name": name} for n, name in enumerate(names)], **more}


def image(number: Any, name: str, **more: Any) -> dict[str, Any]:
    """An image of 40×30 px."""
    return {"id": number, "file_name": name, "width": 40, "height": 30, **more}


def box(number: Any, of: Any, category: Any = 1, **more: Any) -> dict[str, Any]:
    """An annotation with a box."""
    return {"id": number, "image_id": of, "category_id": category, "bbox": [4, 5, 10, 8], "area": 80, "iscrowd": 0, **more}


def xml(name: str, objects: tuple[str, ...] = ("moth",), size: bool = True) -> str:
    """An annotation of a picture of 40×30 px."""
    things = "".join(
        f"<object><name>{each}</name><bndbox><xmin>5</xmin><ymin>6</ymin><xmax>15</xmax><ymax>12</ymax></bndbox></object>" for each in objects
    )
    said = "<size><width>40</width><height>30</height><depth>3</depth></size>" if size else ""
    return f"<annotation><filename>{name}</filename>{said}{things}</annotation>"


def levels(*values: int, width: int = 40, height: int = 30) -> np.ndarray[Any, np.dtype[np.uint8]]:
    """A label map with the levels side by side."""
    found = np.zeros((height, width), np.uint8)
    for place, value in enumerate(values):
        found[:, place * width // len(values) : (place + 1) * width // len(values)] = value
    return found
