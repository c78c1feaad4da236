"""YOLO text: one text file for each picture, and `data.yaml` with names, splits and keypoints.

Conventions of the format: every line is one object; all numbers but the class are shares of the
picture's width or height, continuous (0 is the left or top border, 1 the right or bottom one).

    boxes       class x_centre y_centre width height
    polygons    class x y x y …            (at least three points, one outline without holes)
    keypoints   class x_centre y_centre width height  x y visibility  x y visibility …
    oriented    class x y x y x y x y      (four corners; so read where every line has eight numbers)

`data.yaml`: `names` (a list, or numbers with names), `train`, `val`, `test` (folders or lists of
pictures, by any kind of path), `kpt_shape` [number, 2 or 3], `flip_idx` (the mirror partner of each keypoint); or a
list of names in `obj.names` or `classes.txt`. The text file of `images/train/a.jpg` is `labels/train/a.txt`, in any case,
or lies beside the picture. One number more than expected is a confidence and kept. Shares are written to eight decimals.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Any, ClassVar

import numpy as np
import yaml
from numpy.typing import NDArray

from varlen.datasets.entry import Entry
from varlen.datasets.formats.base import EncodedLabels, ImageLabels, ListedImage, Reading, Writer, WrittenImage, size_of
from varlen.datasets.formats.oriented_text import corners_of
from varlen.datasets.formats.tree import Signs, Tree, plain_path, spread, stem_of
from varlen.datasets.import_options import ImportOptions
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


#: Names of files that list classes, one a line.
_LISTS_OF_NAMES = ("obj.names", "classes.txt", "classes.names", "labels.names", "predefined_classes.txt")
#: Folders that hold pictures beside folders of labels.
_PICTURE_FOLDERS = ("images", "image", "img", "imgs", "jpegimages")
#: A label file, a settings file or a list with more bytes is none.
LARGEST_TEXT = 16 << 20


def signs(tree: Tree) -> Signs:
    """Whether there is a settings file with names, or text files of numbers beside the pictures or in folders of labels."""
    settings = _settings_path(tree)
    texts = _label_paths(tree)
    looked = spread(texts)
    fitting = [path for path in looked if _is_numbers(tree.head(path))]
    empty = bool(texts) and not any(tree.head(path).strip() for path in looked)
    inside = any({"labels", "label"} & set(path.lower().split("/")[:-1]) for path in texts)
    score = 0.9 if fitting else 0.75 if settings is not None or empty else 0.55 if inside else 0.0
    missing = "text files of a picture's name with a class and numbers on each line, or a data.yaml with names"
    return Signs(score, [*([settings] if settings else []), *fitting[:4]], missing, [path for path in looked if path not in fitting][:3])


def _is_numbers(head: bytes) -> bool:
    """Whether a text's first line is a class and at least four numbers."""
    line = next((line for line in head.decode("utf-8-sig", "replace").splitlines() if line.strip()), "")
    words = line.split()
    try:
        return len(words) >= 5 and float(words[0]) == int(float(words[0])) and all(abs(float(word)) < 1e6 for word in words[1:])
    except (ValueError, OverflowError):
        return False


def _settings_path(tree: Tree) -> str | None:
    """The topmost YAML file with names."""
    for path in sorted(tree.ending(".yaml", ".yml"), key=lambda path: (path.count("/"), path)):
        if re.search(rb"(?m)^[\"']?names[\"']?\s*:", tree.head(path).removeprefix(b"\xef\xbb\xbf")):
            return path
    return None


def _label_paths(tree: Tree) -> list[str]:
    """Text files in folders of labels, or with the name of a picture in their own folder."""
    folders = {path.rpartition("/")[0] + "/" + stem_of(path) for path in tree.pictures}
    found = []
    for path in tree.ending(".txt"):
        folder = path.rpartition("/")[0]
        if path.rsplit("/", 1)[-1].lower() in _LISTS_OF_NAMES:
            continue
        inside = "labels" in folder.lower().split("/") or "label" in folder.lower().split("/")
        if (inside and stem_of(path) in tree.by_stem) or f"{folder}/{stem_of(path)}" in folders:
            found.append(path)
    return found


def read(tree: Tree, problems: ReadProblems, options: ImportOptions) -> Reading:
    """All pictures and their text files. Raises `DatasetError` with file and line."""
    files = tree.files
    settings_path = _settings_path(tree)
    settings = _settings(files, settings_path)
    texts = _label_paths(tree)
    names = _names(tree, settings, settings_path, texts)
    points, dimensions = _keypoint_shape(settings_path, settings)
    keys = tree.pictures
    if not keys:
        raise DatasetError(f"{files.label}: no pictures")
    skeleton = Skeleton(_point_names(points, settings), (), tuple(_partners(settings_path, settings, points)))
    splits = _listed_splits(tree, settings, settings_path, problems)
    by_key = _by_picture(tree, texts)
    bare = sum(key not in by_key for key in keys)
    if bare and texts:
        problems.remark("background", f"{bare} pictures have no text file and are read as background")
    if not texts:
        problems.note("missing-file", f"{files.label}: there is no text file of labels for any picture")
    wanted = {"yolo-oriented": True, "yolo-polygons": False, "yolo-keypoints": False}.get(options.form)
    turned = _all_eight(tree, texts) if wanted is None and not points else bool(wanted)
    if turned and wanted is None:
        problems.remark("oriented", "every line holds a class and eight numbers: read as oriented boxes; name the format yolo-polygons for outlines")
    listed = (ListedImage(key, (splits.get(key) or split_from_path(key) or "train", by_key.get(key, ""))) for key in keys)
    return Reading(tuple(names), listed, _Read(files, len(names), points, dimensions, turned), len(keys), problems, skeleton)


def _by_picture(tree: Tree, texts: list[str]) -> dict[str, str]:
    """The text file of each picture: beside it or at the same place among the labels, else the nearest of its name."""
    found: dict[str, str] = {}
    lower = {path.lower(): path for path in texts}
    for key in tree.pictures:
        for path in (_text_of(key).lower(), key.lower().rpartition(".")[0] + ".txt"):
            if path in lower:
                found[key] = lower[path]
    taken = set(found.values())
    for path in texts:
        nearest_key = tree.picture_for(path) if path not in taken else None
        if nearest_key is not None:
            found.setdefault(nearest_key, path)
    return found


def _all_eight(tree: Tree, texts: list[str]) -> bool:
    """Whether every line that is looked at has the corners of a box after its class, and some box is turned."""
    turned = False
    for path in spread(texts):
        for line in tree.head(path).decode("utf-8-sig", "replace").splitlines()[:200]:
            words = line.split()
            if words and len(words) != 9:
                return False
            try:
                ax, ay, bx, by, cx, cy, dx, dy = (float(word) for word in words[1:])
            except ValueError:
                continue
            # Shares stretch a rectangle to a parallelogram: its diagonals still meet in their middles.
            size = max(abs(ax - cx), abs(ay - cy), abs(bx - dx), abs(by - dy))
            if max(abs(ax + cx - bx - dx), abs(ay + cy - by - dy)) > 0.05 * size:
                return False
            turned |= min(abs(ax - bx), abs(ay - by)) > 0.02 * size
    return turned


#: Box, outline, keypoints, corners of an oriented box, other fields.
_Line = tuple[list[float], Polygon | None, list[list[float]], "NDArray[np.float64] | None", dict[str, Any]]
#: A number of a class from here on is a mistake.
MOST_CLASSES = 100_000


@dataclass(frozen=True, slots=True)
class _Read:
    files: SourceFiles
    classes: int
    points: int
    dimensions: int
    turned: bool

    def __call__(self, image: ListedImage, problems: ReadProblems) -> Entry:
        size = size_of(self.files, image.key)
        split, path = image.body
        lines = _lines(self.files, path) if path else []
        return Entry(image.key, split, size, self._objects(path, image.key, size, lines, problems))

    def _objects(self, path: str, key: str, size: Size, lines: list[str], problems: ReadProblems) -> Objects:
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
            if not all(abs(value) < 1e6 for value in values) or values[0] != int(values[0]) or not 0 <= values[0] < self.classes:
                problems.note("unknown-class", f"{place}: class {values[0]:g} is not one of the {self.classes} classes")
                continue
            try:
                found.append((int(values[0]), *self._shares(place, values[1:], size)))
            except DatasetError as error:
                problems.note("bad-label", str(error))
        count = len(found)
        return make_objects(
            [str(n + 1) for n in range(count)], key, [each[0] for each in found], [each[1] for each in found], [each[2] for each in found],
            [None] * count, [each[3] for each in found], [False] * count, [each[5] for each in found],
            [each[4] for each in found] if self.turned else (),
        )  # fmt: skip

    def _shares(self, place: str, shares: list[float], size: Size) -> _Line:
        """What one line holds after its class."""
        points, dimensions = self.points, self.dimensions
        none = [[0.0, 0.0, 0.0]] * points
        whole = 4 + points * dimensions
        more: dict[str, Any] = {}
        if len(shares) == whole + 1 or (self.turned and len(shares) == 9):
            # One number more is how sure whoever wrote the line was.
            shares, more = shares[:-1], {"confidence": shares[-1]}
        if len(shares) == 4 or (points and len(shares) == whole):
            x, y, width, height = shares[0] * size.width, shares[1] * size.height, shares[2] * size.width, shares[3] * size.height
            if width < 0 or height < 0:
                raise DatasetError(f"{place}: negative size {shares[2]:g} × {shares[3]:g}")
            box = [x - width / 2, y - height / 2, x + width / 2, y + height / 2]
            if len(shares) == 4:
                return box, None, none, None, more
            rows = np.array(shares[4:]).reshape(points, dimensions)
            visible = rows[:, 2] if dimensions == 3 else (rows != 0).any(axis=1) * 2.0
            pairs = zip(rows[:, :2].tolist(), visible.tolist(), strict=True)
            return box, None, [[px * size.width, py * size.height, v] if v > 0 else [0.0, 0.0, 0.0] for (px, py), v in pairs], None, more
        if len(shares) >= 6 and len(shares) % 2 == 0 and not points:
            ring = np.array(shares).reshape(-1, 2) * [size.width, size.height]
            box = [*ring.min(axis=0).tolist(), *ring.max(axis=0).tolist()]
            return (box, None, none, ring, more) if self.turned and len(ring) == 4 else (box, (Part(ring),), none, None, more)
        expected = f"4 or {whole}" if points else "4, or an even number from 6 on,"
        raise DatasetError(f"{place}: {expected} numbers are expected after the class, not {len(shares)}")


def _lines(files: SourceFiles, path: str) -> list[str]:
    """A text file's lines. Raises `DatasetError` naming it."""
    data = files.read(path)
    if len(data) > LARGEST_TEXT:
        raise DatasetError(f"{path}: {len(data)} bytes are too many for a text file of labels")
    return data.decode("utf-8-sig", "replace").splitlines()


class _PlainLoader(yaml.SafeLoader):
    """YAML without anchors: a few lines of them unfold to more than any memory holds."""

    def compose_node(self, parent: Any, index: Any) -> Any:
        if self.check_event(yaml.events.AliasEvent):
            raise yaml.YAMLError("anchors and aliases are not read; write the values out")
        return super().compose_node(parent, index)


def _settings(files: SourceFiles, path: str | None) -> dict[str, Any]:
    if path is None:
        return {}
    data = files.read(path)
    try:
        if len(data) > LARGEST_TEXT // 4:
            raise ValueError(f"{len(data)} bytes are too many")
        found = yaml.load(data.removeprefix(b"\xef\xbb\xbf"), Loader=_PlainLoader)
    except (yaml.YAMLError, ValueError, RecursionError, TypeError, AttributeError, LookupError, OverflowError) as error:
        raise DatasetError(f"{path}: not YAML ({(str(error).splitlines() or ['?'])[0]})") from None
    if not isinstance(found, dict):
        raise DatasetError(f"{path}: expected names and splits")
    return found


def _names(tree: Tree, settings: dict[str, Any], path: str | None, texts: list[str]) -> list[str]:
    """From the settings, else from a list of names, else as many as the highest number in the labels says."""
    names = settings.get("names")
    if isinstance(names, dict):
        numbered = {int(number): name for number, name in names.items() if str(number).isdecimal()}
        if sorted(numbered) != list(range(len(names))):
            raise DatasetError(f"{path}: names must be numbered from 0 without gaps")
        names = [numbered[number] for number in range(len(names))]
    if names is None:
        lists = [found for found in tree.paths if found.rsplit("/", 1)[-1].lower() in _LISTS_OF_NAMES]
        if lists:
            names = [line.strip() for line in _lines(tree.files, min(lists, key=len)) if line.strip()]
    if names is None:
        firsts = {line.split()[0] for text in texts for line in _lines(tree.files, text) if line.split()}
        highest = max((int(word) for word in firsts if word.isdecimal() and len(word) < 7), default=-1)
        names = [f"class {number}" for number in range(min(highest, MOST_CLASSES) + 1)]
    if not isinstance(names, list) or len(names) > MOST_CLASSES:
        raise DatasetError(f"{path}: names must be a list of at most {MOST_CLASSES}")
    return [str(name)[:200] for name in names]


def _keypoint_shape(path: str | None, settings: dict[str, Any]) -> tuple[int, int]:
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
        raise DatasetError(f"{path}: kpt_shape must be [number, 2] or [number, 3]")
    return shape[0], shape[1]


def _partners(path: str | None, settings: dict[str, Any], points: int) -> list[int]:
    partners = settings.get("flip_idx")
    if partners is None or points == 0:
        return []
    if not isinstance(partners, list) or sorted(map(str, partners)) != sorted(map(str, range(points))):
        raise DatasetError(f"{path}: flip_idx must name each of the {points} keypoints once")
    return [int(partner) for partner in partners]


def _point_names(points: int, settings: dict[str, Any]) -> tuple[str, ...]:
    names = settings.get("kpt_names")
    if isinstance(names, dict) and names:
        names = next(iter(names.values()))
    if isinstance(names, list) and len(names) == points:
        return tuple(str(name) for name in names)
    return tuple(f"point {number + 1}" for number in range(points))


def _listed_splits(tree: Tree, settings: dict[str, Any], path: str | None, problems: ReadProblems) -> dict[str, str]:
    """The split of each picture in a folder or list that the settings name. Raises `DatasetError` for a list that matches no picture."""
    base = PurePosixPath(str(settings.get("path") or "."))
    here = PurePosixPath(path or "").parent
    found: dict[str, str] = {}
    for word, split in SPLIT_WORDS.items():
        value = settings.get(word)
        for place in value if isinstance(value, list) else [value] if isinstance(value, str) else []:
            name = plain_path(str(place))
            roots = dict.fromkeys((name, plain_path((base / name).as_posix()), plain_path((here / name).as_posix()), PurePosixPath(name).name))
            lists = [root for root in roots if root.lower().endswith(".txt") and root in tree.files.paths]
            if lists:
                found.update(_listed(tree, lists[0], split))
            elif not name.lower().endswith(".txt"):
                for root in roots:
                    inside = {key: split for key in tree.pictures if root in ("", ".") or key.startswith(root.rstrip("/") + "/")}
                    if inside:
                        found.update(inside)
                        break
            else:
                problems.note("missing-file", f"{path}: the list {place} of {word} is not there")
    if not settings:
        for list_path in [each for each in tree.ending(".txt") if PurePosixPath(each).stem.lower() in SPLIT_WORDS and "/labels/" not in f"/{each}"]:
            listed = _listed(tree, list_path, SPLIT_WORDS[PurePosixPath(list_path).stem.lower()], wanted=False)
            found.update(listed)
    return found


def _listed(tree: Tree, path: str, split: str, wanted: bool = True) -> dict[str, str]:
    """The pictures that a list names by paths of any kind. Raises `DatasetError` when it matches none, where it is `wanted`."""
    lines = [line.strip() for line in _lines(tree.files, path) if line.strip()]
    found = {key: split for line in lines if (key := tree.named(line)) is not None}
    if lines and not found and wanted:
        raise DatasetError(f"{path}: none of the {len(lines)} pictures it lists is here, the first is {lines[0][:200]!r}")
    return found


def _text_of(key: str) -> str:
    parts = list(PurePosixPath(key).with_suffix(".txt").parts)
    for place in range(len(parts) - 2, -1, -1):
        if parts[place].lower() in _PICTURE_FOLDERS:
            parts[place] = "labels"
            break
    return "/".join(parts)


class _YoloWriter(Writer):
    """Writes `images/`, `labels/` and `data.yaml`."""

    def encode_labels(self, file: str, labels: ImageLabels) -> EncodedLabels:
        sure = [[each["confidence"]] if "confidence" in each else [] for each in labels.objects.attributes]
        lines = [" ".join([str(number), *map(_share, (*values, *more))]) for (number, values), more in zip(self.lines(labels), sure, strict=True)]
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
    holds = frozenset(
        (
            "boxes",
            "attributes",
        )
    )
    fields = frozenset(("confidence",))

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
    holds = frozenset(
        (
            "boxes",
            "masks",
            "polygons",
            "attributes",
        )
    )
    fields = frozenset(("confidence",))

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


class YoloOrientedWriter(_YoloWriter):
    """Four corners for each object; those of its upright box where it has no oriented one."""

    name: ClassVar[str] = "yolo-oriented"
    title: ClassVar[str] = "YOLO, oriented boxes"
    layout: ClassVar[str] = "`data.yaml` names classes and splits; one text file of four corners per object and picture in `labels/`."
    holds = frozenset(("boxes", "oriented_boxes", "attributes"))
    fields = frozenset(("confidence",))

    def lines(self, labels: ImageLabels) -> list[tuple[int, list[float]]]:
        objects, size = labels.objects, labels.size
        corners = ((corners_of(objects, place) / [size.width, size.height]).ravel().tolist() for place in range(len(objects)))
        return list(zip(objects.classes.tolist(), corners, strict=True))

    def losses(self) -> list[str]:
        return []


class YoloKeypointsWriter(_YoloWriter):
    """Boxes with keypoints."""

    name: ClassVar[str] = "yolo-keypoints"
    title: ClassVar[str] = "YOLO, keypoints"
    layout: ClassVar[str] = "`data.yaml` names classes, splits and keypoints; one text file per picture in `labels/`."
    holds = frozenset(
        (
            "boxes",
            "keypoints",
            "attributes",
        )
    )
    fields = frozenset(("confidence",))

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
