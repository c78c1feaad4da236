"""The labels of one picture of a COCO dataset: what its annotations say, checked and put into one form."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from functools import lru_cache
from pathlib import PurePosixPath
from typing import Any

import numpy as np
import orjson
from numpy.typing import NDArray

from varlen.datasets.entry import Entry, group_in
from varlen.datasets.formats.base import ListedImage, size_of
from varlen.datasets.image_files import LARGEST, MOST_PIXELS
from varlen.datasets.skeleton import Skeleton
from varlen.datasets.sources import SourceFiles
from varlen.datasets.splits import SPLIT_WORDS, split_from_path
from varlen.errors import DatasetError, ReadProblems
from varlen.model.geometry import Size
from varlen.model.objects import Mask, Objects, Part, Polygon, make_objects
from varlen.shapes.rle import expand, tight_mask_of

#: The word for this format.
NAME = "coco"
IMAGE_FIELDS = {"id", "file_name", "width", "height"}
#: The field of an object that holds the corners of its oriented box.
ORIENTED = "oriented_box"
OBJECT_FIELDS = {ORIENTED, "id", "image_id", "category_id", "bbox", "segmentation", "keypoints", "num_keypoints", "iscrowd", "area"}


@lru_cache(maxsize=64)
def split_of(path: str) -> str:
    """The split that an annotation file's name says, else its folder's, "" for none."""
    parts = PurePosixPath(path)
    for name in (parts.stem, *reversed(parts.parts[:-1])):
        words = re.split(r"[^a-z]+", name.lower())
        found = next((SPLIT_WORDS[word] for word in words if word in SPLIT_WORDS), "")
        if found:
            return found
    return ""


def point_names(category: dict[str, Any]) -> list[str]:
    """A category's keypoints; none where they are not names."""
    names = category.get("keypoints")
    if not isinstance(names, list) or not all(isinstance(name, str) for name in names) or len(set(names)) != len(names):
        return []
    return names


def places_of_points(categories: list[dict[str, Any]], skeleton: Skeleton) -> list[list[int]]:
    """For each category the places of its keypoints among all."""
    places = {name: place for place, name in enumerate(skeleton.names)}
    return [[places[name] for name in point_names(item)] for item in categories]


def is_tilted(numbers: list[float]) -> bool:
    """Whether a rectangle's sides are not along the picture's, by more than a degree."""
    x, y = numbers[2] - numbers[0], numbers[3] - numbers[1]
    return min(abs(x), abs(y)) > 0.02 * math.hypot(x, y)


def is_box(numbers: list[float]) -> bool:
    """Whether four corners form a rectangle, to 2 % of its size."""
    (ax, ay), (bx, by), (cx, cy), (dx, dy) = (numbers[n : n + 2] for n in range(0, 8, 2))
    one, other = math.hypot(cx - ax, cy - ay), math.hypot(dx - bx, dy - by)
    slack = max(0.02 * max(one, other), 1.5)
    return max(one, other) > 0 and abs(one - other) <= slack and math.hypot(ax + cx - bx - dx, ay + cy - by - dy) <= slack


@dataclass(frozen=True, slots=True)
class ImageReader:
    """places: the place of each file's categories among the classes; points: of each class's keypoints among all `count`."""

    files: SourceFiles
    places: dict[tuple[str, str], int]
    points: list[list[int]]
    count: int
    turned: bool

    def __call__(self, image: ListedImage, problems: ReadProblems) -> Entry:
        first, fields, _ = image.body[0]
        size = self._size(first, image.key, fields)
        said = [(path, orjson.loads(text)) for path, _, texts in image.body for text in texts]
        objects = self._labels(image.key, size, _merged(said) if len(image.body) > 1 else said, problems)
        extra = {key: value for _, each, _ in reversed(image.body) for key, value in each.items() if key not in IMAGE_FIELDS}
        return Entry(image.key, split_of(first) or split_from_path(image.key) or "train", size, objects, extra, group=group_in(extra))

    def _size(self, path: str, key: str, fields: dict[str, Any]) -> Size:
        width, height = fields.get("width"), fields.get("height")
        if width is None or height is None:
            return size_of(self.files, key)
        numbers = numbers_in([width, height])
        if numbers is None or min(numbers) < 1 or any(number != int(number) for number in numbers):
            raise DatasetError(f"{path}: image {fields['file_name']}: width and height must be whole numbers above 0")
        if numbers[0] * numbers[1] > LARGEST:
            raise DatasetError(f"{path}: image {fields['file_name']}: {numbers[0]:g}×{numbers[1]:g} px is too large for a picture")
        return Size(int(numbers[0]), int(numbers[1]))

    def _labels(self, key: str, size: Size, annotations: list[tuple[str, dict[str, Any]]], problems: ReadProblems) -> Objects:
        boxes, polygons, masks, keypoints, classes, oriented, kept = [], [], [], [], [], [], []
        for path, annotation in annotations:
            place = f"{path}: annotation {annotation.get('id')} (image {key})"
            cls = self.places.get((path, id_text(annotation.get("category_id"))))
            if cls is None:
                problems.note("unknown-class", f"{place}: category {annotation.get('category_id')} does not exist")
                continue
            try:
                polygon, mask = _segmentation(place, annotation.get("segmentation"), size)
                points = _keypoints(place, annotation.get("keypoints"), self.points[cls], self.count)
                corners = _oriented(place, annotation.get(ORIENTED), polygon if self.turned else None)
                box = _box(place, annotation.get("bbox"), polygon, mask, corners, points)
            except DatasetError as error:
                problems.note("bad-label", str(error))
                continue
            kept.append(annotation)
            classes.append(cls)
            boxes.append(box)
            polygons.append(None if corners is not None and _same_ring(polygon, corners) else polygon)
            masks.append(mask)
            keypoints.append(points)
            oriented.append(corners)
        return make_objects(
            _ids(kept), key, classes, boxes, polygons, masks, keypoints, [bool(annotation.get("iscrowd", 0)) for annotation in kept],
            [{name: value for name, value in annotation.items() if name not in OBJECT_FIELDS} for annotation in kept],
            oriented if any(each is not None for each in oriented) else (),
        )  # fmt: skip


def _ids(annotations: list[dict[str, Any]]) -> list[str]:
    """Each annotation's id as text; where several files use one for different things, told apart."""
    found: dict[str, None] = {}
    for number, annotation in enumerate(annotations):
        name = str(annotation.get("id", number))
        while name in found:
            name += "'"
        found[name] = None
    return list(found)


def _merged(said: list[tuple[str, dict[str, Any]]]) -> list[tuple[str, dict[str, Any]]]:
    """Annotations of one picture from several files: the same id with the same box is one object, and what each file adds is kept."""
    found: list[tuple[str, dict[str, Any]]] = []
    places: dict[tuple[str, str], int] = {}
    for path, annotation in said:
        mark = id_text(annotation.get("id")), str(annotation.get("bbox"))
        if annotation.get("id") is not None and annotation.get("bbox") and mark in places and found[places[mark]][0] != path:
            first, known = found[places[mark]]
            found[places[mark]] = first, {**annotation, **{name: value for name, value in known.items() if value not in (None, [])}}
        else:
            places[mark] = len(found)
            found.append((path, annotation))
    return found


def id_text(value: Any) -> str:
    """An id as text; 7 and "7" stay different."""
    return f"#{value}" if isinstance(value, int) else str(value)


def numbers_in(values: Any, count: int | None = None) -> list[float] | None:
    """A list of finite numbers, or None."""
    if not isinstance(values, list) or (count is not None and len(values) != count):
        return None
    if not set(map(type, values)) <= {int, float} or (values and not -1e9 < min(values) <= max(values) < 1e9):
        return None
    return values


def _box(place: str, values: Any, polygon: Polygon | None, mask: Mask | None, corners: NDArray[np.float64] | None,
         keypoints: list[list[float]]) -> list[float]:  # fmt: skip
    """The box as it is written; where it is not, around what else there is."""
    if values is None or values == []:
        if mask is not None:
            return list(mask.box)
        seen = np.array([point[:2] for point in keypoints if point[2] > 0])
        points = np.concatenate([part.outline for part in polygon]) if polygon else corners if corners is not None else seen
        if len(points):
            return [*points.min(axis=0).tolist(), *points.max(axis=0).tolist()]
    numbers = numbers_in(values, 4)
    if numbers is None:
        raise DatasetError(f"{place}: bbox must be four numbers, not {str(values)[:60]}")
    x, y, width, height = numbers
    if width < 0 or height < 0:
        raise DatasetError(f"{place}: bbox has a negative size, {width:g} × {height:g}")
    return [x, y, x + width, y + height]


def _keypoints(place: str, values: Any, places: list[int], count: int) -> list[list[float]]:
    """All keypoints of the dataset's skeleton, of which the object's class has those at `places`."""
    found = [[0.0, 0.0, 0.0] for _ in range(count)]
    if values is None or values == [] or not places:
        return found
    numbers = numbers_in(values, 3 * len(places))
    if numbers is None:
        raise DatasetError(f"{place}: keypoints must be {3 * len(places)} numbers (x, y, visibility)")
    for number, each in enumerate(places):
        x, y, v = numbers[3 * number : 3 * number + 3]
        if v > 0:
            found[each] = [x + 0.5, y + 0.5, v]
    return found


def _oriented(place: str, values: Any, polygon: Polygon | None) -> NDArray[np.float64] | None:
    """The corners of an oriented box: as a field of its own, or the outline where all outlines are such."""
    if values is None:
        return polygon[0].outline if polygon else None
    numbers = numbers_in(values, 8)
    if numbers is None:
        raise DatasetError(f"{place}: {ORIENTED} must be eight numbers, the corners one after another")
    return np.array(numbers, np.float64).reshape(4, 2)


def _same_ring(polygon: Polygon | None, corners: NDArray[np.float64]) -> bool:
    """Whether an outline is nothing but the corners, to the precision that is written."""
    if polygon is None or len(polygon) != 1 or polygon[0].outline.shape != (4, 2):
        return False
    return bool(np.allclose(polygon[0].outline, corners, atol=1e-3))


def _segmentation(place: str, value: Any, size: Size) -> tuple[Polygon | None, Mask | None]:
    if not value or value == [[]]:
        return None, None
    if isinstance(value, list):
        parts = []
        for ring in value:
            numbers = numbers_in(ring)
            if numbers is None or len(numbers) < 6 or len(numbers) % 2:
                raise DatasetError(f"{place}: a polygon needs at least three points x, y")
            parts.append(Part(np.array(numbers, np.float64).reshape(-1, 2)))
        return tuple(parts), None
    try:
        counts = value["counts"]
        height, width = value["size"]
        if (height, width) != (size.height, size.width):
            raise DatasetError(f"{place}: mask of {width}×{height} px in a picture of {size.width}×{size.height} px")
        if height * width > MOST_PIXELS:
            raise DatasetError(f"{place}: a mask of {width}×{height} px is too large")
        runs = expand(counts) if isinstance(counts, str) else [int(count) for count in counts]
        found = tight_mask_of(runs, height, width)
        return None, Mask(*found) if found else None
    except (KeyError, TypeError, ValueError, IndexError, OverflowError, MemoryError) as error:
        raise DatasetError(f"{place}: segmentation is neither polygons nor a run-length mask ({error})") from None
