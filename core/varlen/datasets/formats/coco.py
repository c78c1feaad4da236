"""COCO JSON: boxes, polygons, run-length masks, keypoints, crowd regions.

Conventions of the format: boxes are [x, y, width, height] from the top-left corner, in
continuous pixels; polygons likewise; a keypoint names a pixel by its index, so its centre is
half a pixel further: x + 0.5 here, x − 0.5 when written. Numbers are written to 1/10000 px.

Read: any `*.json` with images, annotations and categories, in the dataset's top folder or in
`annotations/`; the split is derived from its name (train, val / validation, test). Fields not
known here are kept and written again. An image's `group` field names the images it belongs
with, such as the frames of one clip.
"""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path, PurePosixPath
from typing import Any, BinaryIO

import numpy as np
import orjson
from numpy.typing import NDArray

from varlen.datasets.dataset import Dataset
from varlen.datasets.entry import Entry, group_in
from varlen.datasets.formats.base import EncodedLabels, ImageLabels, ListedImage, Reading, Writer, WrittenImage
from varlen.datasets.formats.json_stream import pieces
from varlen.datasets.skeleton import Skeleton
from varlen.datasets.sources import SourceFiles
from varlen.datasets.splits import SPLIT_WORDS
from varlen.errors import DatasetError, ReadProblems
from varlen.model.geometry import Size
from varlen.model.objects import Mask, Objects, Part, Polygon, make_objects
from varlen.shapes.mask_polygons import mask_from_polygon
from varlen.shapes.polygons import ring_areas
from varlen.shapes.rle import encode, expand, tight_mask_of

NAME = "coco"
#: How labels are read, for people.
CONVENTION = "boxes read as left, top, width, height in pixels"
SORTED = orjson.OPT_SORT_KEYS
_IMAGE_FIELDS = {"id", "file_name", "width", "height"}
_OBJECT_FIELDS = {"id", "image_id", "category_id", "bbox", "segmentation", "keypoints", "num_keypoints", "iscrowd", "area"}


def annotation_files(files: SourceFiles) -> list[str]:
    """The annotation files of a folder or zip, sorted."""
    return files.near(".json", ("annotations",))


def recognise(files: SourceFiles) -> bool:
    """Whether there is an annotation file of this form."""
    for path in annotation_files(files):
        with files.open(path) as stream:
            head = stream.read(200_000)
        # Where the list of images is long and comes first, nothing else is near the beginning.
        if b'"annotations"' in head or b'"categories"' in head or (b'"images"' in head and b'"file_name"' in head):
            return True
    return False


def read(files: SourceFiles, problems: ReadProblems, only: str | None = None) -> Reading:
    """All annotation files, or `only` one. Raises `DatasetError` with file and place."""
    paths = [only] if only else annotation_files(files)
    reader = _Reader(files, problems)
    for path in paths:
        reader.look_through(path, alone=len(paths) == 1)
    if not reader.categories:
        raise DatasetError(f"{files.label}: no annotation file with images, annotations and categories")
    return reader.reading()


@lru_cache(maxsize=64)
def _split_of(path: str) -> str:
    words = re.split(r"[^a-z]+", PurePosixPath(path).stem.lower())
    return next((SPLIT_WORDS[word] for word in words if word in SPLIT_WORDS), "train")


_LISTS = frozenset(("images", "annotations", "categories"))
_SPOOL = """
create table image (place integer primary key, file text, id text, body text);
create table key (name text primary key) without rowid;
create table annotation (image text, file text, body text);
"""


class _Reader:
    """Two passes: the files are looked through once, images and annotations going to a temporary database; then each image meets its own."""

    def __init__(self, files: SourceFiles, problems: ReadProblems) -> None:
        self.files, self.problems = files, problems
        self.categories: dict[int, dict[str, Any]] = {}
        self.head: dict[str, Any] = {}
        # Without a name it is kept in memory while it is small, and on the disk when it grows.
        self.spool = sqlite3.connect("", check_same_thread=False)
        self.spool.executescript(_SPOOL)

    def look_through(self, path: str, alone: bool) -> None:
        """Spool the images and annotations of one file. Any other JSON file is passed over, unless it is `alone`."""
        found: set[str] = set()
        head: dict[str, Any] = {}
        categories: list[Any] = []
        with self.files.open(path) as stream:
            try:
                self._spool(path, stream, found, head, categories)
            except DatasetError:
                if alone or found:
                    raise
                return
        if not {"images", "categories"} <= found:
            self.spool.execute("delete from image where file = ?", (path,))
            self.spool.execute("delete from annotation where file = ?", (path,))
            if alone:
                raise DatasetError(f"{path}: expected an object with images, annotations and categories")
            return
        self._categories(path, categories)
        self.head.update(head)

    def _spool(self, path: str, stream: BinaryIO, found: set[str], head: dict[str, Any], categories: list[Any]) -> None:
        waiting: dict[str, list[tuple[str | bytes, ...]]] = {"images": [], "annotations": []}
        for name, value in pieces(stream, path, _LISTS):
            found.add(name)
            match name:
                case _ if value is None:
                    pass
                case "images":
                    waiting[name].append((path, _id(value.get("id")), orjson.dumps(value)))
                case "annotations":
                    waiting[name].append((_id(value.get("image_id")), path, orjson.dumps(value)))
                case "categories":
                    categories.append(value)
                case _:
                    head[name] = value
            if len(waiting["images"]) + len(waiting["annotations"]) > 5000:
                self._flush(waiting)
        self._flush(waiting)

    def _flush(self, waiting: dict[str, list[tuple[str | bytes, ...]]]) -> None:
        self.spool.executemany("insert into image (file, id, body) values (?, ?, ?)", waiting["images"])
        self.spool.executemany("insert into annotation values (?, ?, ?)", waiting["annotations"])
        waiting["images"].clear()
        waiting["annotations"].clear()

    def reading(self) -> Reading:
        self.spool.executescript("create index by_image on annotation (file, image); create index by_id on image (file, id);")
        strays = (
            "select file, body from annotation"
            " where not exists (select 1 from image where image.file = annotation.file and image.id = annotation.image)"
        )
        for path, body in self.spool.execute(strays):
            annotation = orjson.loads(body)
            said = f"{path}: annotation {annotation.get('id')} names image {annotation.get('image_id')}, which is not among its images"
            self.problems.note("bad-label", said)
        ordered = [self.categories[number] for number in sorted(self.categories)]
        (count,) = self.spool.execute("select count(*) from image").fetchone()
        names = tuple(item["name"] for item in ordered)
        extra = {"coco": {"categories": ordered, "head": self.head}}
        return Reading(names, self._listed(), _Read(self.places, self.keypoints), count, self.problems, self._skeleton(ordered), extra)

    def _listed(self) -> Iterator[ListedImage]:
        for path, number, body in self.spool.execute("select file, id, body from image order by place"):
            image = orjson.loads(body)
            key = self._key(path, image)
            if key is None:
                continue
            if not self.spool.execute("insert or ignore into key values (?)", (key.encode("utf-8", "surrogatepass"),)).rowcount:
                raise DatasetError(f"{path}: image {key} is listed twice")
            annotations = self.spool.execute("select body from annotation where file = ? and image = ? order by rowid", (path, number))
            yield ListedImage(key, (path, image, [text for (text,) in annotations]))

    def _key(self, path: str, image: dict[str, Any]) -> str | None:
        """The file of an image; None, and a note of it, where there is none."""
        name = image.get("file_name")
        if not isinstance(name, str):
            raise DatasetError(f"{path}: image {image.get('id')} has no file_name")
        key = self._find(_split_of(path), name, PurePosixPath(path).stem)
        if key is None:
            self.problems.note("missing-file", f"{path}: image {name} is listed, but there is no such file in {self.files.name}")
        return key

    def _find(self, split: str, name: str, stem: str) -> str | None:
        folders = ["", "images/", f"images/{split}/", f"{split}/", f"{stem}/", f"images/{stem}/", "val/", "images/val/"]
        name = PurePosixPath(name.lstrip("/")).as_posix()
        return next((folder + name for folder in folders if self.files.has(folder + name)), None)

    def _categories(self, path: str, items: Any) -> None:
        for item in items:
            if not isinstance(item.get("id"), int) or not isinstance(item.get("name"), str):
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


@dataclass(frozen=True, slots=True)
class _Read:
    """places: the place of each category's number among the classes; keypoints: how many objects have."""

    places: dict[int, int]
    keypoints: int

    def __call__(self, image: ListedImage, problems: ReadProblems) -> Entry:
        path, fields, texts = image.body
        width, height = fields.get("width"), fields.get("height")
        if not isinstance(width, int) or not isinstance(height, int) or width < 1 or height < 1:
            raise DatasetError(f"{path}: image {fields['file_name']}: width and height must be whole numbers above 0")
        size = Size(width, height)
        objects = self._labels(path, image.key, size, [orjson.loads(text) for text in texts], problems)
        extra = {key: value for key, value in fields.items() if key not in _IMAGE_FIELDS}
        return Entry(image.key, _split_of(path), size, objects, extra, group=group_in(extra))

    def _labels(self, path: str, key: str, size: Size, annotations: list[dict[str, Any]], problems: ReadProblems) -> Objects:
        boxes, polygons, masks, keypoints, kept = [], [], [], [], []
        for annotation in annotations:
            place = f"{path}: annotation {annotation.get('id')} (image {key})"
            if annotation.get("category_id") not in self.places:
                problems.note("unknown-class", f"{place}: category {annotation.get('category_id')} does not exist")
                continue
            try:
                polygon, mask = _segmentation(place, annotation.get("segmentation"), size)
                box, points = _box(place, annotation.get("bbox"), polygon, mask), _keypoints(place, annotation.get("keypoints"), self.keypoints)
            except DatasetError as error:
                problems.note("bad-label", str(error))
                continue
            kept.append(annotation)
            boxes.append(box)
            polygons.append(polygon)
            masks.append(mask)
            keypoints.append(points)
        annotations = kept
        return make_objects(
            [str(annotation.get("id", number)) for number, annotation in enumerate(annotations)], key,
            [self.places[annotation["category_id"]] for annotation in annotations], boxes, polygons, masks, keypoints,
            [bool(annotation.get("iscrowd", 0)) for annotation in annotations],
            [{name: value for name, value in annotation.items() if name not in _OBJECT_FIELDS} for annotation in annotations],
        )  # fmt: skip


def _id(value: Any) -> str:
    """An id as text; 7 and "7" stay different."""
    return f"#{value}" if isinstance(value, int) else str(value)


def _numbers(values: Any, count: int | None = None) -> list[float] | None:
    """A list of finite numbers, or None."""
    if not isinstance(values, list) or (count is not None and len(values) != count):
        return None
    if not set(map(type, values)) <= {int, float} or (values and not -1e9 < min(values) <= max(values) < 1e9):
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
        found = tight_mask_of(runs, height, width)
        return None, Mask(*found) if found else None
    except (KeyError, TypeError, ValueError) as error:
        raise DatasetError(f"{place}: segmentation is neither polygons nor a run-length mask ({error})") from None


class CocoWriter(Writer):
    """Writes `annotations/<split>.json` and `images/<split>/`."""

    name = NAME
    title = "COCO"
    layout = "One `annotations/<split>.json` per split in COCO form; pictures in `images/<split>/`."

    def encode_labels(self, file: str, labels: ImageLabels) -> EncodedLabels:
        image = {"file_name": file.split("/", 2)[2], "width": labels.size.width, "height": labels.size.height, **labels.extra}
        objects = describe_objects(labels.objects, labels.size, self.dataset)
        return EncodedLabels(orjson.dumps(image, option=SORTED), [orjson.dumps(each, option=SORTED) for each in objects])

    def write_label_files(self, folder: Path, splits: list[str], images: Iterable[WrittenImage]) -> list[str]:
        """Image and annotation ids count from 1 within each file."""
        (folder / "annotations").mkdir(exist_ok=True)
        streams = {split: _SplitFile(folder / "annotations" / f"{split}.json") for split in splits}
        for image in images:
            streams[image.split].add(image)
        for stream in streams.values():
            stream.close(self.dataset)
        return [f"annotations/{split}.json" for split in streams]

    def losses(self) -> list[str]:
        return self.contents.lost(classes="images have image-level classes", label_maps="label maps")


def describe_objects(objects: Objects, size: Size, dataset: Dataset) -> list[dict[str, Any]]:
    """One picture's annotations, all but the ids."""
    if len(objects) == 0:
        return []
    categories = dataset.extra.get("coco", {}).get("categories")
    boxes = np.concatenate([objects.boxes[:, :2], objects.boxes[:, 2:] - objects.boxes[:, :2]], 1)
    areas = _short(boxes[:, 2] * boxes[:, 3])
    shapes = _described_polygons(objects)
    keypoints = _described_keypoints(objects)
    holed = set(objects.outlines.owners[objects.outlines.holes].tolist())
    polygons = objects.polygons if holed else ()
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
        elif place in holed:
            # The form's polygons know no holes; a run-length mask does.
            stamp = mask_from_polygon(polygons[place] or ())
            if stamp is not None:
                stamp = stamp.within(size)
            if stamp is not None:
                annotation["segmentation"] = {"size": [size.height, size.width], "counts": encode(stamp.pixels, stamp.left, stamp.top, size)}
                annotation["area"] = int(np.count_nonzero(stamp.pixels))
        elif place in shapes:
            annotation["segmentation"], annotation["area"] = shapes[place]
        if keypoints:
            annotation["keypoints"], annotation["num_keypoints"] = keypoints[place]
        found.append(annotation)
    return found


def _described_polygons(objects: Objects) -> dict[int, tuple[list[list[float]], float]]:
    """Flat outlines and area of every object with a polygon, all worked out at once."""
    points, starts, owners, _ = objects.outlines
    if len(owners) == 0:
        return {}
    flat = _short(points.ravel())
    areas = ring_areas(points, starts[:-1]).tolist()
    ends = starts.tolist()
    found: dict[int, tuple[list[list[float]], float]] = {}
    for ring, (place, area) in enumerate(zip(owners.tolist(), areas, strict=True)):
        outlines, total = found.get(place, ([], 0.0))
        found[place] = ([*outlines, flat[2 * ends[ring] : 2 * ends[ring + 1]]], round(total + area, 4))
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
