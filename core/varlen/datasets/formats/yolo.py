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

from dataclasses import dataclass
from pathlib import PurePosixPath
from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.entry import Entry
from varlen.datasets.formats.base import ListedImage, Reading, size_of
from varlen.datasets.formats.tree import HEAD, Doubt, Signs, Tree, spread, stem_of
from varlen.datasets.formats.yolo_settings import (
    LISTS_OF_NAMES,
    class_names,
    keypoint_shape,
    lines_of,
    listed_splits,
    partner_places,
    point_names,
    settings_in,
    settings_path,
)
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.skeleton import Skeleton
from varlen.datasets.sources import SourceFiles
from varlen.datasets.splits import split_from_path, unlisted_said
from varlen.errors import DatasetError, ReadProblems
from varlen.model.geometry import Size
from varlen.model.objects import Objects, Part, Polygon, make_objects

NAME = "yolo"
#: How labels are read, for people.
CONVENTION = "boxes read as centre, width, height in shares of the picture"


def signs(tree: Tree) -> Signs:
    """Whether there is a settings file with names, or text files of numbers beside the pictures or in folders of labels."""
    settings = settings_path(tree)
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


def _label_paths(tree: Tree) -> list[str]:
    """Text files in folders of labels, or with the name of a picture in their own folder."""
    folders = {path.rpartition("/")[0] + "/" + stem_of(path) for path in tree.pictures}
    found = []
    for path in tree.ending(".txt"):
        folder = path.rpartition("/")[0]
        if path.rsplit("/", 1)[-1].lower() in LISTS_OF_NAMES:
            continue
        inside = "labels" in folder.lower().split("/") or "label" in folder.lower().split("/")
        if (inside and stem_of(path) in tree.by_stem) or f"{folder}/{stem_of(path)}" in folders:
            found.append(path)
    return found


def read(tree: Tree, problems: ReadProblems, options: ImportOptions) -> Reading:
    """All pictures and their text files. Raises `DatasetError` with file and line."""
    files = tree.files
    place = settings_path(tree)
    settings = settings_in(files, place)
    texts = _label_paths(tree)
    names = class_names(tree, settings, place, texts)
    points, dimensions = keypoint_shape(place, settings)
    guessed = _keypoints_in(tree, texts) if not points and options.form in ("", "yolo-keypoints") else None
    if options.form == "yolo-keypoints" and not points:
        if guessed is not None:
            points, dimensions = guessed
        elif any(len(line.split()) > 5 for path in spread(texts) for line in _whole_lines(tree.head(path))):
            raise DatasetError(f"{files.label}: how many keypoints its lines hold is not said: write kpt_shape: [number, 2 or 3] into data.yaml")
    keys = tree.pictures
    if not keys:
        raise DatasetError(f"{files.label}: no pictures")
    skeleton = Skeleton(point_names(points, settings), (), tuple(partner_places(place, settings, points)))
    splits = listed_splits(tree, settings, place, problems)
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
    unlisted = [key for key in keys if key not in splits and not split_from_path(key)] if splits else []
    if unlisted:
        problems.remark("unlisted", unlisted_said(unlisted))
    doubt = None
    if guessed is not None and not options.form:
        said = f"every line holds a class and {4 + guessed[0] * guessed[1]} numbers, and no kpt_shape says what they are"
        doubt = Doubt(said, {"yolo-keypoints": f"they are a box and {guessed[0]} keypoints", "yolo-polygons": "they are outlines"})
    listed = (ListedImage(key, (splits.get(key) or split_from_path(key) or "train", by_key.get(key, ""))) for key in keys)
    return Reading(tuple(names), listed, _Read(files, len(names), points, dimensions, turned), len(keys), problems, skeleton,
                   pictures=lambda: keys, labels=by_key.values, doubt=doubt)  # fmt: skip


def _by_picture(tree: Tree, texts: list[str]) -> dict[str, str]:
    """The text file of each picture: beside it or at the same place among the labels, else the nearest of its name."""
    found: dict[str, str] = {}
    lower = {path.lower(): path for path in texts}
    for key in tree.pictures:
        for path in (text_of(key).lower(), key.lower().rpartition(".")[0] + ".txt"):
            if path in lower:
                found[key] = lower[path]
    taken = set(found.values())
    for path in texts:
        nearest_key = tree.picture_for(path) if path not in taken else None
        if nearest_key is not None:
            found.setdefault(nearest_key, path)
    return found


def _keypoints_in(tree: Tree, texts: list[str]) -> tuple[int, int] | None:
    """How many keypoints lines seem to hold, and how many numbers each: all lines are alike, and all points lie in the box before them."""
    rows = [line.split() for path in spread(texts) for line in _whole_lines(tree.head(path))]
    length = len(rows[0]) - 5 if rows else 0
    if length < 3 or any(len(row) != length + 5 for row in rows):
        return None
    try:
        numbers = np.array(rows, np.float64)[:, 1:]
    except ValueError:
        return None
    centres, halves = numbers[:, :2], numbers[:, 2:4] / 2
    if (np.abs(centres - 0.5) + halves > 0.5 + SLACK).any():  # the first four numbers are no boxes: these are outlines
        return None
    for dimensions in (3, 2):
        if length % dimensions or length == 4:  # a class and eight numbers are corners
            continue
        points = numbers[:, 4:].reshape(len(rows), -1, dimensions)
        if dimensions == 3 and not np.isin(points[:, :, 2], (0, 1, 2)).all():
            continue
        seen = np.any(points[:, :, :2] != 0, axis=2)
        inside = np.all(np.abs(points[:, :, :2] - centres[:, None]) <= halves[:, None] + SLACK, axis=2)
        if seen.any() and bool((inside | ~seen).all()):
            return points.shape[1], dimensions
    return None


def _whole_lines(head: bytes) -> list[str]:
    """The lines of a text's beginning, without the last where it was cut off."""
    lines = head.decode("utf-8-sig", "replace").splitlines()
    return [line for line in (lines[:-1] if len(head) >= HEAD else lines)[:200] if line.strip()]


def _all_eight(tree: Tree, texts: list[str]) -> bool:
    """Whether every line that is looked at has the corners of a box after its class, and some box is turned."""
    turned = False
    for path in spread(texts):
        for line in _whole_lines(tree.head(path)):
            words = line.split()
            if len(words) != 9:
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


#: How far beyond 0 and 1 a share may lie, as rounding and labels drawn over the edge bring about.
SLACK = 0.01

#: Box, outline, keypoints, corners of an oriented box, other fields.
_Line = tuple[list[float], Polygon | None, list[list[float]], "NDArray[np.float64] | None", dict[str, Any]]


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
        lines = lines_of(self.files, path) if path else []
        return Entry(image.key, split, size, self._objects(path, image.key, size, lines, problems))

    def _objects(self, path: str, key: str, size: Size, lines: list[str], problems: ReadProblems) -> Objects:
        found = []
        tracked = not self.points and any(_has_track(line.split()) for line in lines)
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
                found.append((int(values[0]), *self._shares(place, values[1:], size, tracked)))
            except DatasetError as error:
                problems.note("bad-label", str(error))
        count = len(found)
        return make_objects(
            [str(n + 1) for n in range(count)], key, [each[0] for each in found], [each[1] for each in found], [each[2] for each in found],
            [None] * count, [each[3] for each in found], [False] * count, [each[5] for each in found],
            [each[4] for each in found] if self.turned else (),
        )  # fmt: skip

    def _shares(self, place: str, shares: list[float], size: Size, tracked: bool) -> _Line:
        """What one line holds after its class. tracked: a box is followed by a confidence and the number of a track."""
        points, dimensions = self.points, self.dimensions
        none = [[0.0, 0.0, 0.0]] * points
        whole = 4 + points * dimensions
        more: dict[str, Any] = {}
        if len(shares) == whole + 1 or (self.turned and len(shares) == 9):
            # One number more is the confidence of the detector that wrote the line.
            shares, more = shares[:-1], {"confidence": shares[-1]}
        elif tracked and len(shares) == 6:
            shares, more = shares[:4], {"confidence": shares[4], "track_id": int(shares[5])}
        if (len(shares) == 4 or (points and len(shares) == whole)) and min(shares[2:4]) < 0:
            raise DatasetError(f"{place}: negative size {shares[2]:g} × {shares[3]:g}")
        coordinates = () if self.turned else shares[:4] if points else shares  # a turned box may reach over the edge
        if (odd := next((each for each in coordinates if not -SLACK <= each <= 1 + SLACK), None)) is not None:
            raise DatasetError(f"{place}: {odd:g} is no share of a picture's side, from 0 to 1; are these pixels?")
        if len(shares) == 4 or (points and len(shares) == whole):
            x, y, width, height = shares[0] * size.width, shares[1] * size.height, shares[2] * size.width, shares[3] * size.height
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


def _has_track(words: list[str]) -> bool:
    """Whether a line is a class, a box, a confidence and the number of a track: no vertex of an outline lies so far outside."""
    if len(words) != 7:
        return False
    try:
        confidence, track = float(words[5]), float(words[6])
    except ValueError:
        return False
    return 0 <= confidence <= 1 and track > 1 and track == int(track)


#: Folders that hold pictures beside folders of labels.
_PICTURE_FOLDERS = ("images", "image", "img", "imgs", "jpegimages")


def text_of(key: str) -> str:
    """Where the text file of a picture lies: at the same place among the labels."""
    parts = list(PurePosixPath(key).with_suffix(".txt").parts)
    for place in range(len(parts) - 2, -1, -1):
        if parts[place].lower() in _PICTURE_FOLDERS:
            parts[place] = "labels"
            break
    return "/".join(parts)
