"""The annotation files of a COCO dataset, looked through once: images and annotations go to a temporary database, then each image meets its own."""

from __future__ import annotations

import json
import re
import sqlite3
from collections.abc import Iterator
from functools import lru_cache
from pathlib import PurePosixPath
from typing import Any, BinaryIO

import orjson

from varlen.datasets.formats.base import ListedImage, Reading, numbered
from varlen.datasets.formats.coco_objects import (
    ORIENTED,
    ImageReader,
    id_text,
    is_box,
    is_tilted,
    numbers_in,
    places_of_points,
    point_names,
    split_of,
)
from varlen.datasets.formats.json_stream import pieces
from varlen.datasets.formats.tree import Tree, plain_path
from varlen.datasets.skeleton import Skeleton
from varlen.errors import DatasetError, ReadProblems

#: Annotation files that are looked for in one dataset.
MOST_FILES = 400
#: Classes without a name that are made of their numbers at most.
MOST_CLASSES = 10_000


@lru_cache(maxsize=64)
def _folders(path: str) -> tuple[str, ...]:
    """Where the pictures of an annotation file may lie, the likeliest first."""
    here, split, stem = PurePosixPath(path).parent, split_of(path), PurePosixPath(path).stem
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


class CocoReader:
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
        self.read = 0  # files of this form
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
        used: dict[int | str, None] = {}
        with self.files.open(path) as stream:
            try:
                self._spool(path, stream, found, head, categories, used)
            except DatasetError:
                if alone or found:
                    raise
                return
        plain = "annotations" in found and (used or not self._has_annotations(path))  # without categories; captions have no classes at all
        if "images" not in found or not ("categories" in found or plain):
            self.forget(path)
            if alone:
                raise DatasetError(f"{path}: expected an object with images, annotations and categories")
            return
        self.read += 1
        if used and not categories:
            categories = [{"id": number, "name": f"class {number}"} for number in sorted(used, key=lambda each: (isinstance(each, str), each))]
            self.problems.remark("unnamed-class", f"{path} names no categories: classes are called by their numbers")
        self._categories(path, categories)
        self.head.update(head)

    def _has_annotations(self, path: str) -> bool:
        return self.spool.execute("select 1 from annotation where file = ? limit 1", (path,)).fetchone() is not None

    def _spool(self, path: str, stream: BinaryIO, found: set[str], head: dict[str, Any], categories: list[Any],
               used: dict[int | str, None]) -> None:  # fmt: skip
        waiting: dict[str, list[tuple[str | bytes, ...]]] = {"images": [], "annotations": []}
        for name, value in pieces(stream, path, _LISTS):
            found.add(name)
            match name:
                case _ if value is None:
                    pass
                case "images":
                    file_name = value.get("file_name")
                    named = file_name.encode("utf-8", "surrogatepass") if isinstance(file_name, str) else b""
                    waiting[name].append((path, id_text(value.get("id", file_name)), named, _packed(value)))
                case "annotations":
                    self._count_turned(value)
                    if isinstance(value.get("category_id"), (int, str)) and len(used) < MOST_CLASSES:
                        used.setdefault(value["category_id"])
                    waiting[name].append((id_text(value.get("image_id")), path, _packed(value)))
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
            numbers = numbers_in(shape[0], 8)
            if numbers is not None and is_box(numbers):
                self.turned += 1
                self.tilted |= is_tilted(numbers)

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
        numbers = numbered(names)
        places = {mark: numbers[name] for mark, name in self.names.items()}
        skeleton = self._skeleton(ordered)
        turned = self.tilted and self.turned == self.outlined and not self.named_boxes
        if turned:
            self.problems.remark("oriented", "every outline is the four corners of a turned rectangle: read as oriented boxes")
        extra = {"coco": {"categories": ordered, "head": self.head}}
        (count,) = self.spool.execute("select count(distinct key) + count(*) - count(key) from image").fetchone()
        read_one = ImageReader(self.files, places, places_of_points(ordered, skeleton), len(skeleton.names), turned)
        return Reading(names, self._listed(), read_one, count, self.problems, skeleton, extra, pictures=self._keys)

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

    def _keys(self) -> Iterator[str]:
        """The files of all pictures."""
        for (key,) in self.spool.execute("select distinct key from image where key is not null"):
            yield key.decode("utf-8", "surrogatepass")

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
        found = self.tree.named("/".join(part for part in (split_of(path) and year, plain) if part))
        if found is not None and not found.lower().endswith(plain_path(name).lower()):
            self.by_tail.append(f"{found} for {name}")
        return found

    def _categories(self, path: str, items: Any) -> None:
        """Categories are known by their names; each file numbers them as it likes."""
        for item in items:
            name = item.get("name")
            if not isinstance(item.get("id"), (int, str)) or not isinstance(name, str):
                raise DatasetError(f"{path}: a category needs an id and a name, not {str(item)[:80]}")
            known = self.names.setdefault((path, id_text(item["id"])), name)
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
        if len(set(map(id_text, numbers))) == len(numbers) and all(isinstance(number, int) for number in numbers):
            return sorted(items, key=lambda item: int(item["id"]))
        return [{**item, "id": place + 1} for place, item in enumerate(items)]

    def _skeleton(self, categories: list[dict[str, Any]]) -> Skeleton:
        """The keypoints of all categories; those of one name share their place."""
        names: list[str] = []
        edges: dict[tuple[int, int], None] = {}
        for item in categories:
            own = point_names(item)
            if item.get("keypoints") and not own:
                self.problems.note("bad-label", f"category {item['name']!r}: keypoints must be a list of names, each once")
            names += [name for name in own if name not in names]
            for line in item.get("skeleton") or () if isinstance(item.get("skeleton"), list) else ():
                ends = numbers_in(line, 2)
                if ends is not None and all(1 <= end <= len(own) and end == int(end) for end in ends):
                    edges[names.index(own[int(ends[0]) - 1]), names.index(own[int(ends[1]) - 1])] = None
        return Skeleton(tuple(names), tuple(edges))


def _packed(value: dict[str, Any]) -> bytes:
    """JSON on its way through the temporary database; a number that no other program would take stays text."""
    try:
        return orjson.dumps(value)
    except (TypeError, orjson.JSONEncodeError):
        return orjson.dumps(json.loads(json.dumps(value), parse_int=_whole), option=orjson.OPT_NON_STR_KEYS)


def _whole(text: str) -> int | float:
    number = int(text) if len(text) < 25 else 0
    return number if len(text) < 25 and -(2**53) < number < 2**53 else float(text[:300])
