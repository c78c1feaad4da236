"""YOLO text: one text file for each picture, and `data.yaml` with names, splits and keypoints.

Conventions of the format: every line is one object; all numbers but the class are shares of the
picture's width or height, continuous (0 is the left or top border, 1 the right or bottom one).

    boxes       class x_centre y_centre width height
    polygons    class x y x y …            (at least three points, one outline without holes)
    keypoints   class x_centre y_centre width height  x y visibility  x y visibility …

`data.yaml`: `names` (a list, or numbers with names), `train`, `val`, `test` (folders or lists of
pictures), `kpt_shape` [number, 2 or 3], `flip_idx` (the mirror partner of each keypoint). The text file of
`images/train/a.jpg` is `labels/train/a.txt`. Shares are written to eight decimals.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Any, ClassVar

import numpy as np
import yaml

from varlen.datasets.entry import Entry
from varlen.datasets.formats.base import EncodedLabels, ImageLabels, ListedImage, Reading, Writer, WrittenImage, pictures, size_of
from varlen.datasets.skeleton import Skeleton
from varlen.datasets.sources import SourceFiles
from varlen.datasets.splits import SPLIT_WORDS, split_from_path
from varlen.errors import DatasetError, ReadProblems
from varlen.kernels.outlines import ring_area
from varlen.model.geometry import Size
from varlen.model.objects import Objects, Part, Polygon, make_objects
from varlen.shapes.mask_polygons import polygon_from_mask

NAME = "yolo"
#: How labels are read, for people.
CONVENTION = "boxes read as centre, width, height in shares of the picture"
DIGITS = 8


def recognise(files: SourceFiles) -> bool:
    """Whether there is a `data.yaml` with names, or text files of numbers beside the pictures."""
    return _settings_path(files) is not None or bool(_label_paths(files))


def _settings_path(files: SourceFiles) -> str | None:
    for path in sorted(path for path in files.paths if "/" not in path and path.endswith((".yaml", ".yml"))):
        if re.search(rb"(?m)^names\s*:", files.read(path)[:200_000]):
            return path
    return None


def _label_paths(files: SourceFiles) -> list[str]:
    return sorted(path for path in files.paths if path.endswith(".txt") and "labels" in PurePosixPath(path).parts[:-1])


def read(files: SourceFiles, problems: ReadProblems) -> Reading:
    """All pictures and their text files. Raises `DatasetError` with file and line."""
    settings = _settings(files)
    names = _names(files, settings)
    points, dimensions = _keypoint_shape(files, settings)
    keys = pictures(files)
    if not keys:
        raise DatasetError(f"{files.label}: no pictures")
    skeleton = Skeleton(_point_names(points, settings), (), tuple(_partners(files, settings, points)))
    splits = _listed_splits(files, settings, keys)

    listed = (ListedImage(key, splits.get(key) or split_from_path(key) or "train") for key in keys)
    return Reading(tuple(names), listed, _Read(files, len(names), points, dimensions), len(keys), problems, skeleton)


@dataclass(frozen=True, slots=True)
class _Read:
    files: SourceFiles
    classes: int
    points: int
    dimensions: int

    def __call__(self, image: ListedImage, problems: ReadProblems) -> Entry:
        size = size_of(self.files, image.key)
        path = _text_of(image.key)
        lines = self.files.read(path).decode("utf-8", "replace").splitlines() if self.files.has(path) else []
        objects = _read_objects(path, image.key, size, lines, self.classes, self.points, self.dimensions, problems)
        return Entry(image.key, image.body, size, objects)


def _settings(files: SourceFiles) -> dict[str, Any]:
    path = _settings_path(files)
    if path is None:
        return {}
    try:
        found = yaml.safe_load(files.read(path))
    except (yaml.YAMLError, ValueError, RecursionError) as error:
        raise DatasetError(f"{path}: not YAML ({str(error).splitlines()[0]})") from None
    if not isinstance(found, dict):
        raise DatasetError(f"{path}: expected names and splits")
    return found


def _names(files: SourceFiles, settings: dict[str, Any]) -> list[str]:
    names = settings.get("names")
    if isinstance(names, dict):
        if sorted(names) != list(range(len(names))):
            raise DatasetError(f"{_settings_path(files)}: names must be numbered from 0 without gaps")
        names = [names[number] for number in range(len(names))]
    if names is None:
        highest = max((int(line.split()[0]) for path in _label_paths(files) for line in files.read(path).decode("utf-8", "replace").splitlines()
                       if line.split() and line.split()[0].isdigit()), default=-1)  # fmt: skip
        names = [f"class {number}" for number in range(highest + 1)]
    if not isinstance(names, list):
        raise DatasetError(f"{_settings_path(files)}: names must be a list")
    return [str(name) for name in names]


def _keypoint_shape(files: SourceFiles, settings: dict[str, Any]) -> tuple[int, int]:
    shape = settings.get("kpt_shape")
    if shape is None:
        return 0, 0
    if (
        not isinstance(shape, list)
        or len(shape) != 2
        or not all(isinstance(n, int) for n in shape)
        or shape[1] not in (2, 3)
        or not 0 < shape[0] < 1000
    ):
        raise DatasetError(f"{_settings_path(files)}: kpt_shape must be [number, 2] or [number, 3]")
    return shape[0], shape[1]


def _partners(files: SourceFiles, settings: dict[str, Any], points: int) -> list[int]:
    partners = settings.get("flip_idx")
    if partners is None or points == 0:
        return []
    if not isinstance(partners, list) or sorted(map(str, partners)) != sorted(map(str, range(points))):
        raise DatasetError(f"{_settings_path(files)}: flip_idx must name each of the {points} keypoints once")
    return [int(partner) for partner in partners]


def _point_names(points: int, settings: dict[str, Any]) -> tuple[str, ...]:
    names = settings.get("kpt_names")
    if isinstance(names, dict) and names:
        names = next(iter(names.values()))
    if isinstance(names, list) and len(names) == points:
        return tuple(str(name) for name in names)
    return tuple(f"point {number + 1}" for number in range(points))


def _listed_splits(files: SourceFiles, settings: dict[str, Any], keys: list[str]) -> dict[str, str]:
    """The split of each picture in a folder or list that `data.yaml` names."""
    base = PurePosixPath(str(settings.get("path") or "."))
    found: dict[str, str] = {}
    for word, split in SPLIT_WORDS.items():
        value = settings.get(word)
        for place in value if isinstance(value, list) else [value] if isinstance(value, str) else []:
            name = re.sub(r"^(\.\.?/)+", "", PurePosixPath(str(place)).as_posix())
            for root in {name, (base / name).as_posix(), PurePosixPath(name).name}:
                if root.endswith(".txt") and root in files.paths:
                    found.update({re.sub(r"^\./", "", line.strip()): split for line in files.read(root).decode("utf-8", "replace").splitlines()})
                found.update({key: split for key in keys if key.startswith(root.rstrip("/") + "/")})
    return found


def _text_of(key: str) -> str:
    parts = list(PurePosixPath(key).with_suffix(".txt").parts)
    for place in range(len(parts) - 2, -1, -1):
        if parts[place] == "images":
            parts[place] = "labels"
            break
    return "/".join(parts)


def _read_objects(path: str, key: str, size: Size, lines: list[str], classes: int, points: int, dimensions: int, problems: ReadProblems) -> Objects:
    found = []
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        place = f"{path}, line {number}"
        try:
            values = [float(word) for word in line.split()]
        except ValueError:
            problems.note("bad-label", f"{place}: expected numbers, not {line.strip()[:60]!r}")
            continue
        if not all(abs(value) < 1e6 for value in values) or values[0] != int(values[0]) or not 0 <= values[0] < classes:
            problems.note("unknown-class", f"{place}: class {values[0]:g} is not one of the {classes} classes")
            continue
        try:
            found.append((int(values[0]), *_read_shares(place, values[1:], size, points, dimensions)))
        except DatasetError as error:
            problems.note("bad-label", str(error))
    count = len(found)
    return make_objects(
        [str(n + 1) for n in range(count)], key, [each[0] for each in found], [each[1] for each in found], [each[2] for each in found],
        [None] * count, [each[3] for each in found], [False] * count, [{}] * count,
    )  # fmt: skip


def _read_shares(place: str, shares: list[float], size: Size, points: int, dimensions: int) -> tuple[list[float], Polygon | None, list[list[float]]]:
    """Box, outline and keypoints of one line."""
    none = [[0.0, 0.0, 0.0]] * points
    if len(shares) == 4 or (points and len(shares) == 4 + points * dimensions):
        x, y, width, height = shares[0] * size.width, shares[1] * size.height, shares[2] * size.width, shares[3] * size.height
        if width < 0 or height < 0:
            raise DatasetError(f"{place}: negative size {shares[2]:g} × {shares[3]:g}")
        box = [x - width / 2, y - height / 2, x + width / 2, y + height / 2]
        if len(shares) == 4:
            return box, None, none
        rows = np.array(shares[4:]).reshape(points, dimensions)
        visible = rows[:, 2] if dimensions == 3 else (rows != 0).any(axis=1) * 2.0
        pairs = zip(rows[:, :2].tolist(), visible.tolist(), strict=True)
        return box, None, [[px * size.width, py * size.height, v] if v > 0 else [0.0, 0.0, 0.0] for (px, py), v in pairs]
    if len(shares) >= 6 and len(shares) % 2 == 0 and not points:
        ring = np.array(shares).reshape(-1, 2) * [size.width, size.height]
        return [*ring.min(axis=0).tolist(), *ring.max(axis=0).tolist()], (Part(ring),), none
    expected = f"4 or {4 + points * dimensions}" if points else "4, or an even number from 6 on,"
    raise DatasetError(f"{place}: {expected} numbers are expected after the class, not {len(shares)}")


class _YoloWriter(Writer):
    """Writes `images/`, `labels/` and `data.yaml`."""

    def encode_labels(self, file: str, labels: ImageLabels) -> EncodedLabels:
        lines = [" ".join([str(number), *(_share(value) for value in values)]) for number, values in self.lines(labels)]
        return EncodedLabels(files={_text_of(file): "".join(f"{line}\n" for line in lines).encode()})

    def lines(self, labels: ImageLabels) -> list[tuple[int, list[float]]]:
        """Class and shares of each object."""
        raise NotImplementedError

    def write_label_files(self, folder: Path, splits: list[str], images: Iterable[WrittenImage]) -> list[str]:
        super().write_label_files(folder, splits, images)
        settings: dict[str, Any] = {"path": ".", **{"val" if split == "validation" else split: f"images/{split}" for split in splits}}
        settings["names"] = dict(enumerate(self.dataset.classes))
        (folder / "data.yaml").write_text(yaml.safe_dump({**settings, **self.more()}, sort_keys=False, allow_unicode=True), "utf-8")
        return ["data.yaml"]

    def more(self) -> dict[str, Any]:
        """What else `data.yaml` says."""
        return {}


def _share(value: float) -> str:
    text = f"{value:.{DIGITS}f}".rstrip("0").rstrip(".")
    return "0" if text in ("-0", "") else text


def _box(box: list[float], size: Size) -> list[float]:
    x0, y0, x1, y1 = box
    return [(x0 + x1) / 2 / size.width, (y0 + y1) / 2 / size.height, (x1 - x0) / size.width, (y1 - y0) / size.height]


_ALWAYS_LOST = {
    "crowd": "marks of regions of many", "extra": "objects have fields of their own", "classes": "images have image-level classes",
    "label_maps": "label maps",
}  # fmt: skip


class YoloBoxesWriter(_YoloWriter):
    """Boxes only."""

    name: ClassVar[str] = "yolo"
    title: ClassVar[str] = "YOLO, boxes"
    layout: ClassVar[str] = "`data.yaml` names classes and splits; one text file of boxes per picture in `labels/`."

    def lines(self, labels: ImageLabels) -> list[tuple[int, list[float]]]:
        objects = labels.objects
        return [(number, _box(box, labels.size)) for number, box in zip(objects.classes.tolist(), objects.boxes.tolist(), strict=True)]

    def losses(self) -> list[str]:
        return self.contents.lost(outlines="outlines", masks="masks", keypoints="keypoints", **_ALWAYS_LOST)


class YoloPolygonsWriter(_YoloWriter):
    """One outline for each object; a box where it has none."""

    name: ClassVar[str] = "yolo-polygons"
    title: ClassVar[str] = "YOLO, outlines"
    layout: ClassVar[str] = "`data.yaml` names classes and splits; one text file of outlines per picture in `labels/`."

    def lines(self, labels: ImageLabels) -> list[tuple[int, list[float]]]:
        objects, size = labels.objects, labels.size
        found = []
        for place, (number, box) in enumerate(zip(objects.classes.tolist(), objects.boxes.tolist(), strict=True)):
            mask = objects.masks[place]
            polygon = polygon_from_mask(mask) if mask is not None else objects.outlines.polygon(place)
            x0, y0, x1, y1 = box
            ring = np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]])
            if polygon:
                ring = max((part.outline for part in polygon), key=ring_area)
            found.append((number, (ring / [size.width, size.height]).ravel().tolist()))
        return found

    def losses(self) -> list[str]:
        return self.contents.lost(parts="further parts of outlines", holes="holes", keypoints="keypoints",
                                           masks="masks, written as the outline of their largest part", **_ALWAYS_LOST)  # fmt: skip


class YoloKeypointsWriter(_YoloWriter):
    """Boxes with keypoints."""

    name: ClassVar[str] = "yolo-keypoints"
    title: ClassVar[str] = "YOLO, keypoints"
    layout: ClassVar[str] = "`data.yaml` names classes, splits and keypoints; one text file per picture in `labels/`."

    def lines(self, labels: ImageLabels) -> list[tuple[int, list[float]]]:
        objects, size = labels.objects, labels.size
        found = []
        for number, box, points in zip(objects.classes.tolist(), objects.boxes.tolist(), objects.keypoints.tolist(), strict=True):
            shares = [value for x, y, visible in points for value in ((x / size.width, y / size.height, visible) if visible else (0.0, 0.0, 0.0))]
            found.append((number, [*_box(box, size), *shares]))
        return found

    def more(self) -> dict[str, Any]:
        names = list(self.dataset.skeleton.names)
        count = len(names) or max((entry.objects.keypoints.shape[1] for entry in self.dataset.entries.values() if len(entry.objects)), default=0)
        if not count:
            return {}
        swap = self.dataset.swap.tolist()
        return {"kpt_shape": [count, 3], "flip_idx": swap if len(swap) == count else list(range(count)), "kpt_names": {0: names}}

    def losses(self) -> list[str]:
        return self.contents.lost(outlines="outlines", masks="masks", **_ALWAYS_LOST)
