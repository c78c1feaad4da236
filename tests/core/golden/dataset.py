"""The golden dataset: small pictures and labels that have one of everything, made by plain arithmetic.

Pictures of many sizes and both orientations, all eight EXIF values, gray and 16-bit ones; outlines with
holes and several parts, masks, crowds, hidden and missing keypoints, objects within objects, label maps,
groups, image-level classes. Nothing here calls the code under test but to say what it is.
"""

from __future__ import annotations

import io
from typing import Any

import numpy as np
from PIL import Image
from varlen.datasets.dataset import Dataset
from varlen.datasets.entry import Entry
from varlen.datasets.skeleton import Skeleton
from varlen.model.geometry import Size
from varlen.model.objects import Mask, Objects, Part, make_objects

CLASSES = ("ash veil", "copper hook", "lamp moth")
SKELETON = Skeleton(("head", "left tip", "right tip"), ((0, 1), (0, 2)))
MAP_CLASSES = ("background", "moth", "lamp glare")


class MemoryFiles:
    """Files of a dataset that is nowhere on the disk."""

    name = "golden"

    def __init__(self, files: dict[str, bytes]) -> None:
        self.files = files

    def read(self, path: str) -> bytes:
        return self.files[path]


def pattern(width: int, height: int, phase: int = 0) -> np.ndarray[Any, np.dtype[np.uint8]]:
    """A picture (H, W, 3) uint8 of slopes and stripes, different in every place, the same everywhere."""
    y, x = np.mgrid[0:height, 0:width]
    red, green = (x * 7 + y * 3 + phase * 31) % 256, (x * 2 + y * 11 + phase * 17) % 256
    blue = ((x // 3 + y // 2) % 2) * 160 + (x * y + phase) % 64
    return np.stack([red, green, blue], axis=2).astype(np.uint8)


#: For each EXIF value, upright pixels to stored ones (Exif 2.32, 4.6.4 A: where the stored row 0 and column 0 are seen).
STORED = {
    1: lambda p: p,
    2: lambda p: p[:, ::-1],  # row 0 top, column 0 right
    3: lambda p: p[::-1, ::-1],  # bottom, right
    4: lambda p: p[::-1],  # bottom, left
    5: lambda p: p.swapaxes(0, 1),  # left, top
    6: lambda p: p.swapaxes(0, 1)[::-1],  # right, top
    7: lambda p: p[::-1, ::-1].swapaxes(0, 1),  # right, bottom
    8: lambda p: p.swapaxes(0, 1)[:, ::-1],  # left, bottom
}


def png(pixels: np.ndarray[Any, Any], orientation: int = 1) -> bytes:
    """A PNG, with an EXIF orientation where it is not 1."""
    stream = io.BytesIO()
    exif = Image.Exif()
    exif[0x0112] = orientation
    Image.fromarray(np.ascontiguousarray(pixels)).save(stream, "PNG", **({"exif": exif} if orientation != 1 else {}))
    return stream.getvalue()


def _ring(*points: tuple[float, float]) -> np.ndarray[Any, np.dtype[np.float64]]:
    return np.array(points, np.float64)


def _disc(left: int, top: int, radius: int) -> Mask:
    """A round mask with a hole of one pixel in its middle."""
    y, x = np.mgrid[-radius : radius + 1, -radius : radius + 1]
    pixels = (x * x + y * y <= radius * radius).astype(np.uint8)
    pixels[radius, radius] = 0
    return Mask(left, top, pixels)


def _objects(key: str, size: Size, rows: list[dict[str, Any]]) -> Objects:
    """rows: class, box, and what else there is of: polygon, mask, points, crowd, more."""
    return make_objects(
        [f"{n + 1}" for n in range(len(rows))], key, [row["class"] for row in rows],
        [row.get("box") or list(row["mask"].box) for row in rows], [row.get("polygon") for row in rows], [row.get("mask") for row in rows],
        [row.get("points", [[0.0, 0.0, 0.0]] * 3) for row in rows], [row.get("crowd", False) for row in rows], [row.get("more", {}) for row in rows],
    )  # fmt: skip


def standard_objects(key: str, size: Size) -> Objects:
    """One of every kind, placed by shares of the picture: an outline with a hole, two parts, a mask, an object inside
    another, a plain box, a crowd, and one that reaches the border exactly."""
    w, h = size.width, size.height
    holed = (Part(_ring((0.10 * w, 0.10 * h), (0.50 * w, 0.15 * h), (0.45 * w, 0.60 * h), (0.12 * w, 0.55 * h)),
                  (_ring((0.25 * w, 0.25 * h), (0.35 * w, 0.25 * h), (0.35 * w, 0.40 * h), (0.25 * w, 0.40 * h)),)),)  # fmt: skip
    parts = (
        Part(_ring((0.60 * w, 0.10 * h), (0.75 * w, 0.10 * h), (0.70 * w, 0.30 * h))),
        Part(_ring((0.80 * w, 0.20 * h), (0.95 * w, 0.20 * h), (0.95 * w, 0.35 * h), (0.80 * w, 0.35 * h))),
    )
    radius = max(min(w, h) // 8, 1)
    points = [[0.30 * w, 0.20 * h, 2.0], [0.15 * w, 0.50 * h, 1.0], [0.0, 0.0, 0.0]]
    rows: list[dict[str, Any]] = [
        {"class": 0, "box": [0.10 * w, 0.10 * h, 0.50 * w, 0.60 * h], "polygon": holed, "points": points, "more": {"worn": 1}},
        {"class": 1, "box": [0.60 * w, 0.10 * h, 0.95 * w, 0.35 * h], "polygon": parts},
        {"class": 2, "mask": _disc(int(0.55 * w), int(0.55 * h), radius)},
        {"class": 0, "box": [0.20 * w, 0.42 * h, 0.28 * w, 0.52 * h], "points": [[0.22 * w, 0.45 * h, 2.0]] + [[0.21 * w, 0.5 * h, 2.0]] * 2},
        {"class": 1, "box": [0.05 * w, 0.65 * h, 0.45 * w, 0.95 * h]},
        {"class": 2, "box": [0.50 * w, 0.80 * h, 0.95 * w, 0.98 * h], "crowd": True},
        {"class": 1, "box": [0.90 * w, 0.0, float(w), 0.08 * h]},
    ]
    return _objects(key, size, rows)


def _level_map(size: Size) -> np.ndarray[Any, np.dtype[np.uint8]]:
    y, x = np.mgrid[0 : size.height, 0 : size.width]
    levels = np.where((x + y) % 17 < 6, 1, 0) + np.where(x > 0.8 * size.width, 1, 0)
    levels[:2, :3] = 255
    return levels.astype(np.uint8)


#: Upright sizes; the splits follow in turn.
SIZES = {
    "images/wide.png": Size(96, 40),
    "images/tall.png": Size(36, 88),
    "images/square.png": Size(64, 64),
    "images/odd.png": Size(61, 47),
    "images/gray.png": Size(50, 30),
    "images/deep.png": Size(48, 36),
    "images/evening/a.png": Size(72, 54),
    "images/evening/b.png": Size(72, 54),
}
EXIF_SIZE = Size(40, 26)


def golden(exif: str = "upright") -> Dataset:
    """The golden dataset. exif: "stored" gives the EXIF pictures labels that lie on their stored pixels, as some tools draw them."""
    files: dict[str, bytes] = {}
    entries = []
    for number, (key, size) in enumerate(SIZES.items()):
        pixels = pattern(size.width, size.height, number)
        if "gray" in key:
            pixels = pixels[:, :, 0]
        files[key] = png(pixels[:, :, 0].astype(np.uint16) * 256 + 77) if "deep" in key else png(pixels)
        levels = f"maps/{number}.png" if number % 2 == 0 else ""
        if levels:
            files[levels] = png(_level_map(size))
        split = "validation" if "odd" in key else "test" if "gray" in key else "train"
        group = "evening" if "evening" in key else ""
        extra = {"license": number, "camera": f"lamp {number % 2}"}
        classes = (CLASSES[number % 3],)
        entries.append(Entry(key, split, size, standard_objects(key, size), extra, group, classes, levels))
    for orientation, store in STORED.items():
        key = f"images/exif/{orientation}.png"
        files[key] = png(store(pattern(*EXIF_SIZE, 9)), orientation)
        size = EXIF_SIZE if exif == "upright" or orientation < 5 else Size(EXIF_SIZE.height, EXIF_SIZE.width)
        entries.append(Entry(key, "train", size, standard_objects(key, size), classes=(CLASSES[0],)))
    dataset = Dataset("golden", CLASSES, entries, MemoryFiles(files), SKELETON)
    dataset.map_classes = MAP_CLASSES
    return dataset


def pair() -> Dataset:
    """Two pictures only: a mosaic of four takes the one other picture three times."""
    sizes = {"images/one.png": Size(60, 44), "images/two.png": Size(52, 52)}
    files = {key: png(pattern(*size, 20 + n)) for n, (key, size) in enumerate(sizes.items())}
    entries = [Entry(key, "train", size, standard_objects(key, size), classes=(CLASSES[n],)) for n, (key, size) in enumerate(sizes.items())]
    return Dataset("pair", CLASSES, entries, MemoryFiles(files), SKELETON)
