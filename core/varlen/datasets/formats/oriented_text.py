"""Oriented boxes as text: a file for each picture, in a folder of any name, with four corners, class and difficulty on each line.

    x1 y1 x2 y2 x3 y3 x4 y4 class [difficulty]

Coordinates are continuous pixels; the edge from the first corner to the second is the front. Lines such as `gsd:0.15` say
something about the picture and are passed over. Written is `images/<split>/` and `labels/<split>/`, to 1/10000 px.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.entry import Entry
from varlen.datasets.formats.base import EncodedLabels, ImageLabels, ListedImage, Reading, Writer, WrittenImage, no_objects, numbered, size_of
from varlen.datasets.formats.tree import Signs, Tree, spread, stem_of
from varlen.datasets.formats.words import number
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.sources import SourceFiles
from varlen.datasets.splits import default_splits, split_from_path
from varlen.errors import DatasetError, ReadProblems
from varlen.model.objects import Objects, make_objects

NAME = "oriented-text"
#: How labels are read, for people.
CONVENTION = "four corners of a turned box in pixels, then its class"
LARGEST = 64 << 20
#: The field of an object that its difficulty is kept in.
DIFFICULT = "difficult"


def signs(tree: Tree) -> Signs:
    """Whether there are text files of pictures' names with eight numbers and a class on each line."""
    paths = _label_files(tree)
    looked = spread(paths)
    fitting = [path for path in looked if _fits(tree.head(path))]
    missing = "text files of pictures' names with eight numbers and a class on each line"
    return Signs(0.85 if fitting else 0.0, fitting[:5], missing, [path for path in looked if path not in fitting][:3])


def _label_files(tree: Tree) -> list[str]:
    return [path for path in tree.ending(".txt") if stem_of(path) in tree.by_stem]


def _fits(head: bytes) -> bool:
    line = next((line for line in head.decode("utf-8-sig", "replace").splitlines() if line.strip() and not _is_note(line)), "")
    words = _words(line)
    try:
        return len(words) >= 9 and all(abs(float(word)) < 1e9 for word in words[:8]) and not _is_number(words[8])
    except ValueError:
        return False


def _is_note(line: str) -> bool:
    return bool(re.match(r"\s*[A-Za-z_]+\s*:", line))


def _is_number(word: str) -> bool:
    try:
        float(word)
    except ValueError:
        return False
    return True


def _words(line: str) -> list[str]:
    return [word for word in re.split(r"[,\s]+", line.strip()) if word]


def read(tree: Tree, problems: ReadProblems, options: ImportOptions) -> Reading:
    """All pictures and their text files. Raises `DatasetError` with file and line."""
    by_key: dict[str, str] = {}
    names: set[str] = set()
    for path in _label_files(tree):
        key = tree.picture_for(path)
        if key is None or key in by_key:
            continue
        by_key[key] = path
        names.update(words[8] for line in _lines(tree.files, path) if len(words := _words(line)) >= 9 and not _is_note(line))
    if not by_key:
        raise DatasetError(f"{tree.files.label}: no text files of pictures' names")
    bare = [key for key in tree.pictures if key not in by_key]
    if bare:
        problems.remark("background", f"{len(bare)} pictures have no text file and are read as background, such as {bare[0]}")
    named = {key: split for key in tree.pictures if (split := split_from_path(key))}
    drawn = {} if named else default_splits({"": tree.pictures})
    classes = tuple(sorted(names))
    listed = (ListedImage(key, (named.get(key) or drawn.get(key, "train"), by_key.get(key, ""))) for key in tree.pictures)
    return Reading(classes, listed, _Read(tree.files, numbered(classes)), len(tree.pictures), problems, drawn=bool(drawn),
                   pictures=lambda: tree.pictures, labels=by_key.values)  # fmt: skip


def _lines(files: SourceFiles, path: str) -> list[str]:
    data = files.read(path)
    if len(data) > LARGEST:
        raise DatasetError(f"{path}: {len(data)} bytes are too many for one picture's labels")
    return data.decode("utf-8-sig", "replace").splitlines()


@dataclass(frozen=True, slots=True)
class _Read:
    files: SourceFiles
    #: The number of each class.
    numbers: Mapping[str, int]

    def __call__(self, image: ListedImage, problems: ReadProblems) -> Entry:
        split, path = image.body
        size = size_of(self.files, image.key)
        found: list[tuple[int, NDArray[np.float64], dict[str, Any]]] = []
        for line_number, line in enumerate(_lines(self.files, path) if path else (), 1):
            if not line.strip() or _is_note(line):
                continue
            place, words = f"{path}, line {line_number}", _words(line)
            try:
                if len(words) < 9:
                    raise DatasetError(f"{place}: eight numbers and a class are expected, not {line.strip()[:60]!r}")
                corners = np.array([number(word, place) for word in words[:8]], np.float64).reshape(4, 2)
            except DatasetError as error:
                problems.note("bad-label", str(error))
                continue
            difficult = int(words[9]) if len(words) > 9 and words[9].isdecimal() and len(words[9]) < 7 else 0
            found.append((self.numbers[words[8]], corners, {DIFFICULT: difficult} if difficult else {}))
        if not found:
            return Entry(image.key, split, size, no_objects(image.key))
        count = len(found)
        boxes = [[*corners.min(axis=0).tolist(), *corners.max(axis=0).tolist()] for _, corners, _ in found]
        objects = make_objects([str(n + 1) for n in range(count)], image.key, [each[0] for each in found], boxes, [None] * count, [None] * count,
                               [[]] * count, [False] * count, [each[2] for each in found], [each[1] for each in found])  # fmt: skip
        return Entry(image.key, split, size, objects)


def corners_of(objects: Objects, place: int) -> NDArray[np.float64]:
    """An object's oriented box; where it has none, its upright box as one."""
    corners = objects.oriented.of_object(place)
    if corners is not None:
        return corners
    x0, y0, x1, y1 = objects.boxes[place].tolist()
    return np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]])


class OrientedTextWriter(Writer):
    """Writes `images/<split>/` and `labels/<split>/`."""

    name = NAME
    title = "oriented boxes, text"
    layout = "Pictures in `images/<split>/`; one text file per picture in `labels/<split>/`: four corners, class and difficulty of each object."
    holds = frozenset(("boxes", "oriented_boxes", "attributes"))
    fields = frozenset((DIFFICULT,))

    def encode_labels(self, file: str, labels: ImageLabels) -> EncodedLabels:
        objects, lines = labels.objects, []
        for place, number_of in enumerate(objects.classes.tolist()):
            numbers = " ".join(f"{value:.4f}".rstrip("0").rstrip(".") for value in corners_of(objects, place).ravel().tolist())
            name = re.sub(r"[,\s]+", "_", self.dataset.classes[number_of])
            lines.append(f"{numbers} {name} {int(bool(objects.attributes[place].get(DIFFICULT, 0)))}\n")
        path = PurePosixPath("labels", *PurePosixPath(file).with_suffix(".txt").parts[1:]).as_posix()
        return EncodedLabels(files={path: "".join(lines).encode()})

    def write_label_files(self, folder: Path, splits: list[str], images: Iterable[WrittenImage]) -> list[str]:
        return super().write_label_files(folder, splits, images)

    def losses(self) -> list[str]:
        named = [name for name in self.dataset.classes if re.search(r"[,\s]", name)]
        return [f"{len(named)} classes have spaces in their names, written as _"] if named else []
