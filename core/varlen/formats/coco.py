"""COCO JSON: boxes, polygons, run-length masks, keypoints, crowd regions.

Conventions of the format: boxes are [x, y, width, height] from the top-left corner, in
continuous pixels; polygons likewise; a keypoint names a pixel by its index, so its centre is
half a pixel further: x + 0.5 here, x − 0.5 when written. Numbers are written to 1/10000 px.

Read: any `*.json` with images, annotations and categories, in the dataset's top folder or in
`annotations/`; the split is told from its name (train, val / validation, test). Fields not
known here are kept and written again.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from pathlib import Path, PurePosixPath
from typing import Any, BinaryIO, Protocol

import numpy as np
import orjson
from numpy.typing import NDArray

from varlen.dataset import Dataset, Entry, Skeleton
from varlen.errors import DatasetError
from varlen.files import SourceFiles
from varlen.geometry import Size
from varlen.labels.shapes import ring_areas, starts_of
from varlen.rle import encode, expand, mask_of
from varlen.sample import Mask, Objects, Part, Polygon, make_objects

NAME = "coco"
_IMAGE_FIELDS = {"id", "file_name", "width", "height"}
_OBJECT_FIELDS = {"id", "image_id", "category_id", "bbox", "segmentation", "keypoints", "num_keypoints", "iscrowd", "area"}
_SPLIT_WORDS = {"train": "train", "training": "train", "val": "validation", "valid": "validation", "validation": "validation", "test": "test"}


def annotation_files(files: SourceFiles) -> list[str]:
    """The annotation files of a folder or zip, sorted."""
    return sorted(path for path in files.paths if path.endswith(".json") and ("/" not in path or re.fullmatch(r"annotations/[^/]+", path)))


def recognise(files: SourceFiles) -> bool:
    """Whether there is an annotation file of this form."""
    for path in annotation_files(files):
        head = files.read(path)[:200_000]
        if b'"images"' in head and (b'"annotations"' in head or b'"categories"' in head):
            return True
        if b'"annotations"' in head or b'"categories"' in head:
            return True
    return False


def read(files: SourceFiles, only: str | None = None) -> Dataset:
    """Read all annotation files, or `only` one. Raises `DatasetError` with file and place."""
    paths = [only] if only else annotation_files(files)
    reader = _Reader(files)
    for path in paths:
        reader.add(path)
    if not reader.categories:
        raise DatasetError(f"{files.label}: no annotation file with images, annotations and categories")
    return reader.dataset()


def _split_of(path: str) -> str:
    words = re.split(r"[^a-z]+", PurePosixPath(path).stem.lower())
    return next((_SPLIT_WORDS[word] for word in words if word in _SPLIT_WORDS), "train")


class _Reader:
    def __init__(self, files: SourceFiles) -> None:
        self.files = files
        self.categories: dict[int, dict[str, Any]] = {}
        self.entries: dict[str, Entry] = {}
        self.head: dict[str, Any] = {}

    def add(self, path: str) -> None:
        data = self._json(path)
        if not isinstance(data, dict) or "images" not in data or "categories" not in data:
            if len(annotation_files(self.files)) > 1:
                return  # some other file beside the annotations
            raise DatasetError(f"{path}: expected an object with images, annotations and categories")
        self._categories(path, data["categories"])
        images = {image.get("id"): image for image in _objects(path, data, "images")}
        found: dict[Any, list[dict[str, Any]]] = {number: [] for number in images}
        for annotation in _objects(path, data, "annotations"):
            if annotation.get("image_id") not in found:
                raise DatasetError(
                    f"{path}: annotation {annotation.get('id')} names image {annotation.get('image_id')}, which is not among its images"
                )
            found[annotation["image_id"]].append(annotation)
        split = _split_of(path)
        for number, image in images.items():
            entry = self._entry(path, split, image, found[number])
            if entry.key in self.entries:
                raise DatasetError(f"{path}: image {entry.key} is listed twice")
            self.entries[entry.key] = entry
        self.head.update({key: value for key, value in data.items() if key not in ("images", "annotations", "categories")})

    def dataset(self) -> Dataset:
        ordered = [self.categories[number] for number in sorted(self.categories)]
        return Dataset(self.files.name, [item["name"] for item in ordered], self.entries.values(), self.files, self._skeleton(ordered),
                       {"coco": {"categories": ordered, "head": self.head}})  # fmt: skip

    def _json(self, path: str) -> Any:
        try:
            return orjson.loads(self.files.read(path))
        except orjson.JSONDecodeError as error:
            raise DatasetError(f"{path}: not JSON ({error})") from None

    def _categories(self, path: str, items: Any) -> None:
        for item in items if isinstance(items, list) else ():
            if not isinstance(item, dict) or not isinstance(item.get("id"), int) or not isinstance(item.get("name"), str):
                raise DatasetError(f"{path}: a category needs a whole-number id and a name, not {str(item)[:80]}")
            known = self.categories.setdefault(item["id"], item)
            if known["name"] != item["name"]:
                raise DatasetError(f"{path}: category {item['id']} is {item['name']!r} here and {known['name']!r} in another file")
        self.places = {number: place for place, number in enumerate(sorted(self.categories))}
        self.keypoints = max((len(item.get("keypoints") or ()) for item in self.categories.values()), default=0)

    def _skeleton(self, categories: list[dict[str, Any]]) -> Skeleton:
        different = {tuple(item["keypoints"]) for item in categories if item.get("keypoints")}
        if len(different) > 1:
            raise DatasetError(f"{self.files.label}: categories with different keypoints are not supported")
        if not different:
            return Skeleton()
        names = different.pop()
        lines: list[Any] = next((item["skeleton"] for item in categories if item.get("skeleton")), [])
        edges = tuple((int(a) - 1, int(b) - 1) for a, b in lines if 1 <= a <= len(names) and 1 <= b <= len(names))
        return Skeleton(names, edges)

    def _entry(self, path: str, split: str, image: dict[str, Any], annotations: list[dict[str, Any]]) -> Entry:
        name = image.get("file_name")
        if not isinstance(name, str):
            raise DatasetError(f"{path}: image {image.get('id')} has no file_name")
        key = self._find(path, split, name)
        width, height = image.get("width"), image.get("height")
        if not isinstance(width, int) or not isinstance(height, int) or width < 1 or height < 1:
            raise DatasetError(f"{path}: image {name}: width and height must be whole numbers above 0")
        size = Size(width, height)
        objects = self._labels(path, key, size, annotations)
        return Entry(key, split, size, objects, {key: value for key, value in image.items() if key not in _IMAGE_FIELDS})

    def _find(self, path: str, split: str, name: str) -> str:
        stem = PurePosixPath(path).stem
        folders = ["", "images/", f"images/{split}/", f"{split}/", f"{stem}/", f"images/{stem}/", "val/", "images/val/"]
        for folder in folders:
            key = PurePosixPath(folder + name).as_posix()
            if key in self.files.paths:
                return key
        raise DatasetError(f"{path}: image {name} is listed, but there is no such file in {self.files.label}")

    def _labels(self, path: str, key: str, size: Size, annotations: list[dict[str, Any]]) -> Objects:
        boxes, polygons, masks, keypoints = [], [], [], []
        for annotation in annotations:
            place = f"{path}: annotation {annotation.get('id')} (image {key})"
            if annotation.get("category_id") not in self.places:
                raise DatasetError(f"{place}: category {annotation.get('category_id')} does not exist")
            polygon, mask = _segmentation(place, annotation.get("segmentation"), size)
            boxes.append(_box(place, annotation.get("bbox"), polygon, mask))
            polygons.append(polygon)
            masks.append(mask)
            keypoints.append(_keypoints(place, annotation.get("keypoints"), self.keypoints))
        return make_objects(
            [str(annotation.get("id", number)) for number, annotation in enumerate(annotations)], key,
            [self.places[annotation["category_id"]] for annotation in annotations], boxes, polygons, masks, keypoints,
            [bool(annotation.get("iscrowd", 0)) for annotation in annotations],
            [{name: value for name, value in annotation.items() if name not in _OBJECT_FIELDS} for annotation in annotations],
        )  # fmt: skip


def _objects(path: str, data: dict[str, Any], name: str) -> list[dict[str, Any]]:
    items = data.get(name, [])
    if not isinstance(items, list) or not all(isinstance(item, dict) for item in items):
        raise DatasetError(f"{path}: {name} must be a list of objects")
    return items


def _numbers(values: Any, count: int | None = None) -> list[float] | None:
    """A list of finite numbers, or None."""
    if not isinstance(values, list) or (count is not None and len(values) != count):
        return None
    if not all(isinstance(value, (int, float)) and not isinstance(value, bool) and abs(value) < 1e9 for value in values):
        return None
    return values


def _box(place: str, values: Any, polygon: Polygon | None, mask: Mask | None) -> list[float]:
    if values is None and polygon:
        points = np.concatenate([part.outline for part in polygon])
        return [*points.min(axis=0).tolist(), *points.max(axis=0).tolist()]
    if values is None and mask is not None:
        return list(mask.box)
    numbers = _numbers(values, 4)
    if numbers is None:
        raise DatasetError(f"{place}: bbox must be four numbers, not {str(values)[:60]}")
    x, y, width, height = numbers
    if width < 0 or height < 0:
        raise DatasetError(f"{place}: bbox has a negative size, {width:g} × {height:g}")
    return [x, y, x + width, y + height]


def _keypoints(place: str, values: Any, count: int) -> list[list[float]]:
    if values is None or values == []:
        return [[0.0, 0.0, 0.0]] * count
    numbers = _numbers(values, 3 * count)
    if numbers is None:
        raise DatasetError(f"{place}: keypoints must be {3 * count} numbers (x, y, visibility)")
    triples = [numbers[n : n + 3] for n in range(0, len(numbers), 3)]
    return [[x + 0.5, y + 0.5, v] if v > 0 else [0.0, 0.0, 0.0] for x, y, v in triples]


def _segmentation(place: str, value: Any, size: Size) -> tuple[Polygon | None, Mask | None]:
    if value is None or value == []:
        return None, None
    if isinstance(value, list):
        parts = []
        for ring in value:
            numbers = _numbers(ring)
            if numbers is None or len(numbers) < 6 or len(numbers) % 2:
                raise DatasetError(f"{place}: a polygon needs at least three points x, y")
            parts.append(Part(np.array(numbers, np.float64).reshape(-1, 2)))
        return tuple(parts), None
    try:
        counts = value["counts"]
        height, width = value["size"]
        runs = expand(counts) if isinstance(counts, str) else [int(count) for count in counts]
        if (height, width) != (size.height, size.width):
            raise DatasetError(f"{place}: mask of {width}×{height} px in a picture of {size.width}×{size.height} px")
        return None, Mask.tight(mask_of(runs, height, width))
    except (KeyError, TypeError, ValueError) as error:
        raise DatasetError(f"{place}: segmentation is neither polygons nor a run-length mask ({error})") from None


def file_for(split: str, name: str) -> str:
    """Where an image goes in a written dataset."""
    return f"images/{split}/{name}"


def describe_objects(objects: Objects, size: Size, dataset: Dataset) -> list[dict[str, Any]]:
    """One picture's annotations, all but the ids."""
    if len(objects) == 0:
        return []
    categories = dataset.extra.get("coco", {}).get("categories")
    boxes = np.concatenate([objects.boxes[:, :2], objects.boxes[:, 2:] - objects.boxes[:, :2]], 1)
    areas = _short(boxes[:, 2] * boxes[:, 3])
    shapes = _described_polygons(objects)
    keypoints = _described_keypoints(objects)
    crowd, classes = objects.crowd.tolist(), objects.classes.tolist()
    found = []
    for place, box in enumerate(_short(boxes)):
        annotation: dict[str, Any] = dict(objects.attributes[place])
        annotation["category_id"] = categories[classes[place]]["id"] if categories else classes[place] + 1
        annotation["bbox"] = box
        annotation["area"] = areas[place]
        annotation["iscrowd"] = int(crowd[place])
        mask = objects.masks[place]
        if mask is not None:
            annotation["segmentation"] = {"size": [size.height, size.width], "counts": encode(mask.pixels, mask.left, mask.top, size)}
            annotation["area"] = int(np.count_nonzero(mask.pixels))
        elif place in shapes:
            annotation["segmentation"], annotation["area"] = shapes[place]
        if keypoints:
            annotation["keypoints"], annotation["num_keypoints"] = keypoints[place]
        found.append(annotation)
    return found


def _described_polygons(objects: Objects) -> dict[int, tuple[list[list[float]], float]]:
    """Flat outlines and area of every object with a polygon, all worked out at once. Holes don't fit the form."""
    owners = [place for place, polygon in enumerate(objects.polygons) if polygon for _ in polygon]
    rings = [part.outline for polygon in objects.polygons if polygon for part in polygon]
    if not rings:
        return {}
    points, starts = np.concatenate(rings), starts_of(rings)
    flat = _short(points.ravel())
    areas = ring_areas(points, starts).tolist()
    found: dict[int, tuple[list[list[float]], float]] = {}
    for place, start, ring, area in zip(owners, starts.tolist(), rings, areas, strict=True):
        outlines, total = found.get(place, ([], 0.0))
        found[place] = ([*outlines, flat[2 * start : 2 * (start + len(ring))]], round(total + area, 4))
    return found


def _described_keypoints(objects: Objects) -> list[tuple[list[float], int]]:
    points = objects.keypoints
    if points.size == 0:
        return []
    written = np.where(points[:, :, 2:] > 0, points - [0.5, 0.5, 0.0], 0.0)
    return list(zip(_short(written.reshape(len(points), -1)), np.count_nonzero(points[:, :, 2] > 0, axis=1).tolist(), strict=True))


def _short(values: NDArray[np.float64]) -> Any:
    """Plain numbers rounded to the precision that is written."""
    return np.round(values, 4).tolist()


def describe_image(file: str, size: Size, extra: dict[str, Any]) -> dict[str, Any]:
    """One picture's own entry, all but its id; `file` as from `file_for`."""
    return {"file_name": file.split("/", 2)[2], "width": size.width, "height": size.height, **extra}


class WrittenImage(Protocol):
    """What is needed of an image that was written: its split, and its entry and annotations as JSON without ids."""

    @property
    def split(self) -> str: ...

    @property
    def image(self) -> bytes: ...

    @property
    def labels(self) -> list[bytes]: ...


def write_labels(folder: Path, dataset: Dataset, splits: Iterable[str], images: Iterable[WrittenImage]) -> list[str]:
    """Write `annotations/<split>.json`, streaming.

    Image and annotation ids count from 1 within each file. Returns the paths written.
    """
    (folder / "annotations").mkdir(exist_ok=True)
    streams = {split: _SplitFile(folder / "annotations" / f"{split}.json") for split in splits}
    for image in images:
        streams[image.split].add(image)
    for stream in streams.values():
        stream.close(dataset)
    return [f"annotations/{split}.json" for split in streams]


class _SplitFile:
    """One annotation file under way: images go straight to it, annotations wait in a second file."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.later = path.with_suffix(".later")
        self.images: BinaryIO = path.open("wb")
        self.objects: BinaryIO = self.later.open("wb")
        self.images.write(b'{"images":[')
        self.image = self.object = 0

    def add(self, image: WrittenImage) -> None:
        self.image += 1
        self.images.write(b'%s\n{"id":%d,' % (b"," if self.image > 1 else b"", self.image) + image.image[1:])
        for label in image.labels:
            self.object += 1
            self.objects.write(b'%s\n{"id":%d,"image_id":%d,' % (b"," if self.object > 1 else b"", self.object, self.image) + label[1:])

    def close(self, dataset: Dataset) -> None:
        self.objects.close()
        self.images.write(b'],\n"annotations":[')
        with self.later.open("rb") as objects:
            while block := objects.read(1 << 20):
                self.images.write(block)
        self.later.unlink()
        kept = dataset.extra.get("coco", {})
        head = {"categories": kept.get("categories") or _categories(dataset), **kept.get("head", {})}
        # Keys in order: a dataset that went through a database may have them in another.
        self.images.write(b"],\n" + orjson.dumps(head, option=orjson.OPT_SORT_KEYS)[1:] + b"\n")
        self.images.close()


def _categories(dataset: Dataset) -> list[dict[str, Any]]:
    points = {"keypoints": list(dataset.skeleton.names), "skeleton": [[a + 1, b + 1] for a, b in dataset.skeleton.edges]}
    return [{"id": place + 1, "name": name, **(points if dataset.skeleton.names else {})} for place, name in enumerate(dataset.classes)]
