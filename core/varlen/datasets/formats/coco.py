"""COCO JSON: boxes, polygons, run-length masks, keypoints, crowd regions.

Conventions of the format: boxes are [x, y, width, height] from the top-left corner, in
continuous pixels; polygons likewise; a keypoint names a pixel by its index, so its centre is
half a pixel further: x + 0.5 here, x − 0.5 when written. Numbers are written to 1/10000 px.

Read: any `*.json` with images, annotations and categories, wherever it lies; the split is derived
from its name or folder (train, val / validation, test, with a year or without). Several files may
speak of the same pictures. Fields not known here are kept and written again. An image's `group` field
names the images it belongs with, such as the frames of one clip. Oriented boxes are written as the field
`oriented_box`, eight numbers, beside their outline; a set whose outlines all are four corners of a
rectangle is read as oriented boxes.
"""

from __future__ import annotations

import json
import math
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
from varlen.datasets.formats.base import EncodedLabels, ImageLabels, ListedImage, Reading, Writer, WrittenImage, size_of
from varlen.datasets.formats.json_stream import pieces
from varlen.datasets.formats.tree import Signs, Tree, plain_path, spread, stem_of
from varlen.datasets.image_files import MOST_PIXELS
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.skeleton import Skeleton
from varlen.datasets.sources import SourceFiles
from varlen.datasets.splits import SPLIT_WORDS, split_from_path
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
#: The field of an object that holds the corners of its oriented box.
ORIENTED = "oriented_box"
_OBJECT_FIELDS = {ORIENTED, "id", "image_id", "category_id", "bbox", "segmentation", "keypoints", "num_keypoints", "iscrowd", "area"}


def signs(tree: Tree) -> Signs:
    """Whether there are annotation files of this form, anywhere."""
    found = annotation_files(tree)
    if found:
        return Signs(1.0, found[:5], against=[path for path in tree.ending(".json")[:200] if path not in found][:3])
    return Signs(0.0, [], "a .json file with images, annotations and categories")


def annotation_files(tree: Tree) -> list[str]:
    """The annotation files of a folder or zip, sorted."""
    paths = tree.ending(".json")
    # A file with a picture's name may hold one picture's labels: of many such a few are looked into.
    alone = [path for path in paths if stem_of(path) not in tree.by_stem] if len(paths) > MOST_FILES else paths
    return [path for path in spread(alone or paths, MOST_FILES) if _looks_like_one(tree, path)]


def _looks_like_one(tree: Tree, path: str) -> bool:
    """Whether a file holds what this form has; where its list of images is long and comes first, nothing else is near the beginning."""
    head = tree.head(path, 200_000)
    opens = head.lstrip(b"\xef\xbb\xbf \t\r\n")[:1] == b"{"
    listed = b'"images"' in head and (b'"annotations"' in head or b'"categories"' in head or b'"file_name"' in head)
    labelled = b'"annotations"' in head and (b'"image_id"' in head or b'"categories"' in head)
    return opens and (listed or labelled)


def read(tree: Tree, problems: ReadProblems, options: ImportOptions, only: str | None = None) -> Reading:
    """All annotation files, or `only` one. Raises `DatasetError` with file and place."""
    paths = [only] if only else annotation_files(tree)
    reader = _Reader(tree, problems)
    for path in paths:
        try:
            reader.look_through(path, alone=len(paths) == 1)
        except DatasetError as error:
            if problems.strict:
                raise
            reader.forget(path)
            problems.note("bad-label", str(error))
    if not reader.categories:
        none = f"{tree.files.label}: no annotation file with images, annotations and categories"
        raise DatasetError(problems.noted[0][1] if problems.noted else none)
    return reader.reading()


@lru_cache(maxsize=64)
def _split_of(path: str) -> str:
    """The split that an annotation file's name says, else its folder's, "" for none."""
    parts = PurePosixPath(path)
    for name in (parts.stem, *reversed(parts.parts[:-1])):
        words = re.split(r"[^a-z]+", name.lower())
        found = next((SPLIT_WORDS[word] for word in words if word in SPLIT_WORDS), "")
        if found:
            return found
    return ""


#: Annotation files that are looked for in one dataset.
MOST_FILES = 400
#: Pixels of a picture that a file may claim; more than can be decoded at once, for windows of it can be.
LARGEST_PICTURE = 4_000_000_000


@lru_cache(maxsize=64)
def _folders(path: str) -> tuple[str, ...]:
    """Where the pictures of an annotation file may lie, the likeliest first."""
    here, split, stem = PurePosixPath(path).parent, _split_of(path), PurePosixPath(path).stem
    usual = ("", "images/", f"images/{split}/", f"{split}/", f"{stem}/", f"images/{stem}/", "val/", "images/val/")
    if here.as_posix() == ".":
        return usual
    above = "" if here.parent.as_posix() == "." else f"{here.parent.as_posix()}/"
    return (f"{here.as_posix()}/", f"{here.as_posix()}/images/", *usual, above, f"{above}images/")


#: Images or annotations that are on their way to or from the temporary database together.
AT_ONCE = 500
_LISTS = frozenset(("images", "annotations", "categories"))
_SPOOL = """
create table image (place integer primary key, file text, id text, name text, body text, key text);
create table annotation (image text, file text, body text);
"""


class _Reader:
    """Two passes: the files are looked through once, images and annotations going to a temporary database; then each image meets its own.

    Files may speak of the same pictures: what they say is put together by the picture that an image's name leads to.
    """

    def __init__(self, tree: Tree, problems: ReadProblems) -> None:
        self.tree, self.files, self.problems = tree, tree.files, problems
        self.categories: dict[str, dict[str, Any]] = {}
        self.names: dict[tuple[str, str], str] = {}
        self.head: dict[str, Any] = {}
        self.outlined = self.turned = self.named_boxes = 0
        self.tilted = False
        self.by_tail: list[str] = []
        # Without a name it is kept in memory while it is small, and on the disk when it grows.
        self.spool = sqlite3.connect("", check_same_thread=False)
        self.spool.executescript(_SPOOL)

    def forget(self, path: str) -> None:
        """Nothing of a file."""
        self.spool.execute("delete from image where file = ?", (path,))
        self.spool.execute("delete from annotation where file = ?", (path,))

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
            self.forget(path)
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
                    file_name = value.get("file_name")
                    named = file_name.encode("utf-8", "surrogatepass") if isinstance(file_name, str) else b""
                    waiting[name].append((path, _id(value.get("id", file_name)), named, _packed(value)))
                case "annotations":
                    self._count_turned(value)
                    waiting[name].append((_id(value.get("image_id")), path, _packed(value)))
                case "categories":
                    categories.append(value)
                case _:
                    head[name] = value
            if len(waiting["images"]) + len(waiting["annotations"]) > AT_ONCE:
                self._flush(waiting)
        self._flush(waiting)

    def _count_turned(self, annotation: dict[str, Any]) -> None:
        """Whether outlines are all corners of turned boxes: then that is what they are."""
        self.named_boxes += ORIENTED in annotation
        shape = annotation.get("segmentation")
        if not shape or shape == [[]]:
            return
        self.outlined += 1
        if self.outlined == self.turned + 1 and isinstance(shape, list) and len(shape) == 1:
            numbers = _numbers(shape[0], 8)
            if numbers is not None and _is_box(numbers):
                self.turned += 1
                self.tilted |= _is_tilted(numbers)

    def _flush(self, waiting: dict[str, list[tuple[str | bytes, ...]]]) -> None:
        self.spool.executemany("insert into image (file, id, name, body) values (?, ?, ?, ?)", waiting["images"])
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
        self._find_pictures()
        ordered = self._ordered()
        names = tuple(item["name"] for item in ordered)
        places = {mark: names.index(name) for mark, name in self.names.items()}
        skeleton = self._skeleton(ordered)
        turned = self.tilted and self.turned == self.outlined and not self.named_boxes
        if turned:
            self.problems.remark("oriented", "every outline is the four corners of a turned rectangle: read as oriented boxes")
        extra = {"coco": {"categories": ordered, "head": self.head}}
        (count,) = self.spool.execute("select count(distinct key) + count(*) - count(key) from image").fetchone()
        read_one = _Read(self.files, places, _places_of_points(ordered, skeleton), len(skeleton.names), turned)
        return Reading(names, self._listed(), read_one, count, self.problems, skeleton, extra)

    def _find_pictures(self) -> None:
        """Write down each image's picture, and note those that have none or are listed twice in one file."""
        last = 0
        while some := self.spool.execute(
            "select place, file, id, name from image where place > ? order by place limit ?", (last, AT_ONCE)
        ).fetchall():
            named = ((self._key(path, number, name.decode("utf-8", "surrogatepass")), place) for place, path, number, name in some)
            found = [(key.encode("utf-8", "surrogatepass"), place) for key, place in named if key is not None]
            self.spool.executemany("update image set key = ? where place = ?", found)
            last = some[-1][0]
        self.spool.execute("create index by_key on image (key, file, place)")
        again = (
            "select file, key from image where exists (select 1 from image as one where one.key = image.key and one.file = image.file"
            " and one.place < image.place) order by place"
        )
        for path, key in self.spool.execute(again):
            self.problems.note("bad-label", f"{path}: image {key.decode('utf-8', 'surrogatepass')} is listed twice")
        if self.by_tail:
            said = f"{len(self.by_tail)} pictures were found by the end of the path that the labels name, such as {self.by_tail[0]}"
            self.problems.remark("path-matched", said)

    def _listed(self) -> Iterator[ListedImage]:
        """Every picture once, in the order it is first named, with what all files say of it."""
        for (key,) in self.spool.execute("select key from image where key is not null group by key order by min(place)"):
            said = []
            for path, number, body in self.spool.execute("select file, id, body from image where key = ? order by place", (key,)):
                annotations = self.spool.execute("select body from annotation where file = ? and image = ? order by rowid", (path, number))
                said.append((path, orjson.loads(body), [text for (text,) in annotations]))
            yield ListedImage(key.decode("utf-8", "surrogatepass"), said)

    def _key(self, path: str, number: str, name: str) -> str | None:
        """The file of an image; None, and a note of it, where there is none."""
        if not name:
            self.problems.note("bad-label", f"{path}: image {number.lstrip('#')} has no file_name")
            return None
        key = self._find(path, name)
        if key is None:
            self.problems.note("missing-file", f"{path}: image {name} is listed, but there is no such file in {self.files.name}")
        return key

    def _find(self, path: str, name: str) -> str | None:
        paths = self.files.paths
        plain = name if "./" not in name and "//" not in name and not name.startswith("/") else PurePosixPath(name.lstrip("/")).as_posix()
        for folder in _folders(path):
            if folder + plain in paths:
                return folder + plain
        year = re.sub(r"^.*?(train|val|valid|validation|test)", r"\1", PurePosixPath(path).stem, flags=re.I)
        found = self.tree.named("/".join(part for part in (_split_of(path) and year, plain) if part))
        if found is not None and not found.lower().endswith(plain_path(name).lower()):
            self.by_tail.append(f"{found} for {name}")
        return found

    def _categories(self, path: str, items: Any) -> None:
        """Categories are known by their names; each file numbers them as it likes."""
        for item in items:
            name = item.get("name")
            if not isinstance(item.get("id"), (int, str)) or not isinstance(name, str):
                raise DatasetError(f"{path}: a category needs an id and a name, not {str(item)[:80]}")
            known = self.names.setdefault((path, _id(item["id"])), name)
            if known != name:
                raise DatasetError(f"{path}: category {item['id']} is both {known!r} and {name!r}")
            merged = self.categories.setdefault(name, item)
            for field in ("keypoints", "skeleton"):
                if item.get(field) and not merged.get(field):
                    merged[field] = item[field]

    def _ordered(self) -> list[dict[str, Any]]:
        """Categories by their numbers, where every one has its own; else numbered anew in the order they came."""
        items = list(self.categories.values())
        numbers = [item["id"] for item in items]
        if len(set(map(_id, numbers))) == len(numbers) and all(isinstance(number, int) for number in numbers):
            return sorted(items, key=lambda item: int(item["id"]))
        return [{**item, "id": place + 1} for place, item in enumerate(items)]

    def _skeleton(self, categories: list[dict[str, Any]]) -> Skeleton:
        """The keypoints of all categories; those of one name share their place."""
        names: list[str] = []
        edges: dict[tuple[int, int], None] = {}
        for item in categories:
            own = _point_names(item)
            if item.get("keypoints") and not own:
                self.problems.note("bad-label", f"category {item['name']!r}: keypoints must be a list of names, each once")
            names += [name for name in own if name not in names]
            for line in item.get("skeleton") or () if isinstance(item.get("skeleton"), list) else ():
                ends = _numbers(line, 2)
                if ends is not None and all(1 <= end <= len(own) and end == int(end) for end in ends):
                    edges[names.index(own[int(ends[0]) - 1]), names.index(own[int(ends[1]) - 1])] = None
        return Skeleton(tuple(names), tuple(edges))


def _point_names(category: dict[str, Any]) -> list[str]:
    """A category's keypoints; none where they are not names."""
    names = category.get("keypoints")
    if not isinstance(names, list) or not all(isinstance(name, str) for name in names) or len(set(names)) != len(names):
        return []
    return names


def _places_of_points(categories: list[dict[str, Any]], skeleton: Skeleton) -> list[list[int]]:
    """For each category the places of its keypoints among all."""
    places = {name: place for place, name in enumerate(skeleton.names)}
    return [[places[name] for name in _point_names(item)] for item in categories]


def _is_tilted(numbers: list[float]) -> bool:
    """Whether a rectangle's sides are not along the picture's, by more than a degree."""
    x, y = numbers[2] - numbers[0], numbers[3] - numbers[1]
    return min(abs(x), abs(y)) > 0.02 * math.hypot(x, y)


def _is_box(numbers: list[float]) -> bool:
    """Whether four corners form a rectangle, to 2 % of its size."""
    (ax, ay), (bx, by), (cx, cy), (dx, dy) = (numbers[n : n + 2] for n in range(0, 8, 2))
    one, other = math.hypot(cx - ax, cy - ay), math.hypot(dx - bx, dy - by)
    slack = max(0.02 * max(one, other), 1.5)
    return max(one, other) > 0 and abs(one - other) <= slack and math.hypot(ax + cx - bx - dx, ay + cy - by - dy) <= slack


@dataclass(frozen=True, slots=True)
class _Read:
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
        extra = {key: value for _, each, _ in reversed(image.body) for key, value in each.items() if key not in _IMAGE_FIELDS}
        return Entry(image.key, _split_of(first) or split_from_path(image.key) or "train", size, objects, extra, group=group_in(extra))

    def _size(self, path: str, key: str, fields: dict[str, Any]) -> Size:
        width, height = fields.get("width"), fields.get("height")
        if width is None or height is None:
            return size_of(self.files, key)
        numbers = _numbers([width, height])
        if numbers is None or min(numbers) < 1 or any(number != int(number) for number in numbers):
            raise DatasetError(f"{path}: image {fields['file_name']}: width and height must be whole numbers above 0")
        if numbers[0] * numbers[1] > LARGEST_PICTURE:
            raise DatasetError(f"{path}: image {fields['file_name']}: {numbers[0]:g}×{numbers[1]:g} px is too large for a picture")
        return Size(int(numbers[0]), int(numbers[1]))

    def _labels(self, key: str, size: Size, annotations: list[tuple[str, dict[str, Any]]], problems: ReadProblems) -> Objects:
        boxes, polygons, masks, keypoints, classes, oriented, kept = [], [], [], [], [], [], []
        for path, annotation in annotations:
            place = f"{path}: annotation {annotation.get('id')} (image {key})"
            cls = self.places.get((path, _id(annotation.get("category_id"))))
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
            [{name: value for name, value in annotation.items() if name not in _OBJECT_FIELDS} for annotation in kept],
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
        mark = _id(annotation.get("id")), str(annotation.get("bbox"))
        if annotation.get("id") is not None and annotation.get("bbox") and mark in places and found[places[mark]][0] != path:
            first, known = found[places[mark]]
            found[places[mark]] = first, {**annotation, **{name: value for name, value in known.items() if value not in (None, [])}}
        else:
            places[mark] = len(found)
            found.append((path, annotation))
    return found


def _packed(value: dict[str, Any]) -> bytes:
    """JSON on its way through the temporary database; a number that no other program would take stays text."""
    try:
        return orjson.dumps(value)
    except (TypeError, orjson.JSONEncodeError):
        return orjson.dumps(json.loads(json.dumps(value), parse_int=_whole), option=orjson.OPT_NON_STR_KEYS)


def _whole(text: str) -> int | float:
    number = int(text) if len(text) < 25 else 0
    return number if len(text) < 25 and -(2**53) < number < 2**53 else float(text[:300])


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
    numbers = _numbers(values, 4)
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
    numbers = _numbers(values, 3 * len(places))
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
    numbers = _numbers(values, 8)
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
            numbers = _numbers(ring)
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


class CocoWriter(Writer):
    """Writes `annotations/<split>.json` and `images/<split>/`."""

    name = NAME
    title = "COCO"
    layout = "One `annotations/<split>.json` per split in COCO form; pictures in `images/<split>/`."
    holds = frozenset(
        (
            "boxes",
            "masks",
            "polygons",
            "keypoints",
            "oriented_boxes",
            "attributes",
            "crowd",
        )
    )

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
    own = _places_of_points(categories, dataset.skeleton) if categories and _differ(categories) else None
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
        corners = objects.oriented.of_object(place) if len(objects.oriented.owners) else None
        if corners is not None:
            annotation[ORIENTED] = _short(corners.ravel())
        if keypoints:
            points = keypoints[place] if own is None else _of_class(keypoints[place], own[classes[place]])
            annotation["keypoints"], annotation["num_keypoints"] = points
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
    unions = _union_areas(points, starts, owners)
    found: dict[int, tuple[list[list[float]], float]] = {}
    for ring, (place, area) in enumerate(zip(owners.tolist(), areas, strict=True)):
        outlines, total = found.get(place, ([], 0.0))
        found[place] = ([*outlines, flat[2 * ends[ring] : 2 * ends[ring + 1]]], round(total + area, 4))
    return {**found, **{place: (found[place][0], area) for place, area in unions.items()}}


def _union_areas(points: NDArray[np.float64], starts: NDArray[np.int64], owners: NDArray[np.int64]) -> dict[int, float]:
    """The area that is covered, for objects whose rings cross themselves or one another: there the rings' own areas don't add up."""
    import shapely

    rings = shapely.polygons(shapely.linearrings(points, indices=np.repeat(np.arange(len(owners)), np.diff(starts))))
    odd = set(owners[~shapely.is_valid(rings)].tolist()) | set(owners[1:][owners[1:] == owners[:-1]].tolist())
    found = {}
    for place in odd:
        own = shapely.make_valid(rings[owners == place], method="structure")
        covered, summed = float(shapely.area(shapely.union_all(own))), float(ring_areas(points, starts[:-1])[owners == place].sum())
        if abs(covered - summed) > 1e-6 * max(covered, summed):
            found[place] = round(covered, 4)
    return found


def _described_keypoints(objects: Objects) -> list[tuple[list[float], int]]:
    points = objects.keypoints
    if points.size == 0:
        return []
    written = np.where(points[:, :, 2:] > 0, points - [0.5, 0.5, 0.0], 0.0)
    return list(zip(_short(written.reshape(len(points), -1)), np.count_nonzero(points[:, :, 2] > 0, axis=1).tolist(), strict=True))


def _differ(categories: list[dict[str, Any]]) -> bool:
    """Whether categories have different keypoints."""
    return len({tuple(_point_names(item)) for item in categories}) > 1


def _of_class(keypoints: tuple[list[float], int], places: list[int]) -> tuple[list[float], int]:
    """Of all keypoints those that a class has."""
    numbers = [value for place in places for value in keypoints[0][3 * place : 3 * place + 3]]
    return numbers, sum(visibility > 0 for visibility in numbers[2::3])


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
