"""A JSON file for each picture, beside it or in another folder, that holds anywhere a list of items with a label and points.

    {"shapes": [{"label": "ash veil", "points": [[10, 12], [40, 12], [40, 50]]}, …]}

Keys are known by their names (`words.SYNONYMS`), pictures by their stems. Three points or more are an outline, two are the
corners of a box; an item may hold a box instead. Coordinates are continuous pixels. Where an item says what it is (`type`,
`shape_type`), a circle of its centre and a point of its rim is an outline, a turned rectangle an oriented box; lines and
single points are no objects, and are named.
"""

from __future__ import annotations

import json
import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import PurePosixPath
from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.entry import Entry
from varlen.datasets.formats.base import EncodedLabels, ImageLabels, ListedImage, Reading, Writer, no_objects, numbered, size_of
from varlen.datasets.formats.row_shapes import circle
from varlen.datasets.formats.tree import Signs, Tree, spread, stem_of
from varlen.datasets.formats.words import box_of, columns_of, fields_of, plain_word, points_of
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.sources import SourceFiles
from varlen.datasets.splits import default_splits, split_from_path
from varlen.errors import DatasetError, ReadProblems
from varlen.model.objects import Part, make_objects
from varlen.shapes.polygons import polygon_from_mask

NAME = "picture-json"
#: How labels are read, for people.
CONVENTION = "a JSON file for each picture: a label and points, or a box, for each item, in pixels"
LARGEST = 64 << 20
DEEPEST = 12


def signs(tree: Tree) -> Signs:
    """Whether there are JSON files of pictures' names with items in them."""
    paths = _label_files(tree)
    looked = spread(paths)
    fitting = [path for path in looked if _may_hold_items(tree, path)]
    missing = "a .json file of each picture's name, with a list of items that have a label and points"
    return Signs(0.8 if fitting else 0.0, fitting[:5], missing, [path for path in looked if path not in fitting][:3])


def _label_files(tree: Tree) -> list[str]:
    return [path for path in tree.ending(".json") if stem_of(path) in tree.by_stem or stem_of(stem_of(path)) in tree.by_stem]


def _may_hold_items(tree: Tree, path: str) -> bool:
    try:
        return next(_items(_parsed(tree.files, path)), None) is not None
    except DatasetError:
        return False


def _parsed(files: SourceFiles, path: str) -> Any:
    data = files.read(path)
    if len(data) > LARGEST:
        raise DatasetError(f"{path}: {len(data)} bytes are too many for one picture's labels")
    try:
        return json.loads(data.decode("utf-8-sig"), parse_constant=lambda word: None)
    except (ValueError, RecursionError, UnicodeDecodeError) as error:
        raise DatasetError(f"{path}: not JSON ({str(error)[:120]})") from None


def _items(value: Any, depth: int = 0) -> Iterator[dict[str, Any]]:
    """The items with a label and points or a box: those of the first such list, and of the lists beside it."""
    if depth > DEEPEST:
        return
    if isinstance(value, list):
        for each in value:
            if isinstance(each, dict) and _is_item(each):
                yield each
            else:
                yield from _items(each, depth + 1)
    elif isinstance(value, dict):
        for each in value.values():
            yield from _items(each, depth + 1)


def _is_item(value: dict[str, Any]) -> bool:
    columns = columns_of(value)
    return "label" in columns and any(word in columns for word in ("points", "box", "x1", "x", "xc"))


def read(tree: Tree, problems: ReadProblems, options: ImportOptions) -> Reading:
    """All pictures that have a JSON file, and those without as background. Raises `DatasetError` naming the file."""
    by_key: dict[str, str] = {}
    names: dict[str, None] = {}
    for path in _label_files(tree):
        key = tree.picture_for(path) or tree.picture_for(path.rpartition(".")[0])
        if key is None or key in by_key:
            problems.note("bad-label", f"{path}: {key} has its labels in {by_key[key]} already" if key else f"{path}: there is no picture for it")
            continue
        by_key[key] = path
        try:
            names.update(dict.fromkeys(_label(item) for item in _items(_parsed(tree.files, path))))
        except DatasetError as error:
            problems.note("bad-label", str(error))
            by_key[key] = ""
    broken = {key for key, path in by_key.items() if not path}
    bare = [key for key in tree.pictures if key not in by_key]
    if bare:
        problems.remark("background", f"{len(bare)} pictures have no JSON file and are read as background, such as {bare[0]}")
    keys = [key for key in tree.pictures if key not in broken]
    if not keys:
        raise DatasetError(f"{tree.files.label}: no picture has a JSON file that can be read")
    named = {key: split for key in keys if (split := split_from_path(key))}
    drawn = {} if named else default_splits({"": keys})
    classes = tuple(sorted(name for name in names if name))
    listed = (ListedImage(key, (named.get(key) or drawn.get(key, "train"), by_key.get(key, ""))) for key in keys)
    return Reading(
        classes, listed, _Read(tree.files, numbered(classes)), len(keys), problems, drawn=bool(drawn), pictures=lambda: keys, labels=by_key.values
    )


def _label(item: dict[str, Any]) -> str:
    value = item.get(columns_of(item)["label"])
    return str(value).strip()[:200] if isinstance(value, (str, int, float)) else ""


@dataclass(frozen=True, slots=True)
class _Read:
    files: SourceFiles
    #: The number of each class.
    numbers: Mapping[str, int]

    def __call__(self, image: ListedImage, problems: ReadProblems) -> Entry:
        split, path = image.body
        size = size_of(self.files, image.key)
        found: list[tuple[int, dict[str, Any], _Shape]] = []
        for number, item in enumerate(_items(_parsed(self.files, path)) if path else (), 1):
            place = f"{path}: item {number}"
            try:
                label = _label(item)
                if label not in self.numbers:
                    raise DatasetError(f"{place}: has no label")
                shape = _shape(item, place)
                if shape is None:
                    problems.remark("no-object", f"{_kind(item)}s of JSON files are no objects and are left out, such as {place}")
                else:
                    found.append((self.numbers[label], fields_of(item, columns_of(item)), shape))
            except DatasetError as error:
                problems.note("bad-label", str(error))
        if not found:
            return Entry(image.key, split, size, no_objects(image.key))
        count = len(found)
        corners = [each[2] for _, _, each in found]
        objects = make_objects(
            [str(n + 1) for n in range(count)], image.key, [number for number, _, _ in found], [each[0] for _, _, each in found],
            [each[1] for _, _, each in found], [None] * count, [[]] * count, [False] * count, [fields for _, fields, _ in found],
            corners if any(each is not None for each in corners) else (),
        )  # fmt: skip
        return Entry(image.key, split, size, objects)


#: An object's box, outline, and the corners of its turned box.
_Shape = tuple[list[float], tuple[Part, ...] | None, "NDArray[np.float64] | None"]
#: Keys under which an item says what it is.
_KINDS = ("shapetype", "type", "shape", "kind", "geometry")


def _kind(item: dict[str, Any]) -> str:
    """What an item says it is, as one word; "" for nothing."""
    return next((plain_word(value) for name, value in item.items() if plain_word(name) in _KINDS and isinstance(value, str)), "")


def _shape(item: dict[str, Any], place: str) -> _Shape | None:
    """An item's shape; None for lines and points, which are no objects."""
    kind = _kind(item)
    if kind in ("line", "linestrip", "linestring", "polyline", "point", "points", "keypoint"):
        return None
    columns = columns_of(item)
    value = item.get(columns["points"]) if "points" in columns else None
    if value:
        points = points_of(value, place)
        if len(points) < 2:
            raise DatasetError(f"{place}: one point is neither a box nor an outline")
        if kind == "circle" and len(points) == 2:
            points = circle(float(points[0, 0]), float(points[0, 1]), math.dist(points[0], points[1]))
        box = [*points.min(axis=0).tolist(), *points.max(axis=0).tolist()]
        if len(points) == 4 and any(word in kind for word in ("rotat", "orient", "turned")):
            return box, None, points
        return box, (Part(points),) if len(points) >= 3 else None, None
    found = box_of(item, columns, place)
    if found is None:
        raise DatasetError(f"{place}: has neither points nor a box")
    return [min(found[0], found[2]), min(found[1], found[3]), max(found[0], found[2]), max(found[1], found[3])], None, None


class PictureJsonWriter(Writer):
    """Writes `images/<split>/` with a JSON file beside each picture."""

    name = NAME
    title = "JSON per picture"
    layout = "Pictures in `images/<split>/`, beside each a JSON file of its name: `shapes`, each with `label` and `points`."
    holds = frozenset(("boxes", "polygons"))

    def encode_labels(self, file: str, labels: ImageLabels) -> EncodedLabels:
        """An outline's points, of several parts an item each with one `group`; of a box its two corners."""
        objects, shapes = labels.objects, []
        for place, number_of in enumerate(objects.classes.tolist()):
            mask = objects.masks[place]
            polygon = objects.outlines.polygon(place) or (polygon_from_mask(mask) if mask is not None else None)
            rings = [part.outline for part in polygon] if polygon else [objects.boxes[place].reshape(2, 2)]
            group = {"group": objects.ids[place]} if len(rings) > 1 else {}
            shapes += [{**group, "label": self.dataset.classes[number_of], "points": ring.round(3).tolist()} for ring in rings]
        said = {"image": PurePosixPath(file).name, "width": labels.size.width, "height": labels.size.height, "shapes": shapes}
        return EncodedLabels(files={PurePosixPath(file).with_suffix(".json").as_posix(): json.dumps(said, ensure_ascii=False).encode() + b"\n"})

    def losses(self) -> list[str]:
        return self.contents.lost(holes="holes of outlines, which are filled")
