"""Tables: CSV or JSON lines with a picture in each row, and a label, a box, or both.

    file,label                           each picture's class
    file,label,x1,y1,x2,y2               an object in each row, corners in pixels, continuous
    {"file_name": "a.jpg", "class": …}   the same as JSON lines

Columns are known by their names (`words.SYNONYMS`). Where all coordinates are at most 1 they are shares of the picture's
sides. A picture that stands in no row is left out with a note; a row with a file alone is a picture without labels. Written
is `labels.csv` with file, split, label and, where there are boxes, x1, y1, x2, y2.
"""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from itertools import islice
from pathlib import Path
from typing import Any

import orjson

from varlen.datasets.entry import Entry
from varlen.datasets.formats.base import (
    EncodedLabels,
    ImageLabels,
    ListedImage,
    Reading,
    Writer,
    WrittenImage,
    json_bytes,
    no_objects,
    numbered,
    size_of,
)
from varlen.datasets.formats.tree import Signs, Tree
from varlen.datasets.formats.words import box_of, columns_of, fields_of, in_pixels
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.sources import READABLE, SourceFiles
from varlen.datasets.splits import SPLIT_WORDS, default_splits, split_from_path
from varlen.errors import DatasetError, ReadProblems
from varlen.model.objects import make_objects

NAME = "table"
#: How labels are read, for people.
CONVENTION = "boxes read as the columns' names say, in pixels or, where none is above 1, in shares"
LARGEST_TABLE = 256 << 20
SUFFIXES = (".csv", ".tsv", ".jsonl", ".ndjson")
WRITTEN = "labels.csv"


def signs(tree: Tree) -> Signs:
    """Whether there are tables with a column of pictures and a label or a box."""
    found = [path for path in tree.ending(*SUFFIXES) if _fits(tree, path)]
    odd = [path for path in tree.ending(*SUFFIXES) if path not in found]
    return Signs(0.7 if found else 0.0, found[:5], "a .csv or .jsonl file with a column for the picture and one for its label or box", odd[:3])


def _fits(tree: Tree, path: str) -> bool:
    try:
        first = list(islice(_rows(path, tree.head(path), cut=True), 2))
    except DatasetError:
        first = []
    columns = columns_of(first[0][1]) if first else {}
    # Lists of a class and its color name no pictures.
    return "file" in columns and ("label" in columns or any(word in columns for word in ("x1", "x", "xc", "box"))) and any(
        isinstance(row.get(columns["file"]), str) and tree.named(str(row[columns["file"]])) for _, row in first
    )  # fmt: skip


def _rows(path: str, data: bytes, cut: bool = False) -> Iterator[tuple[int, dict[str, Any]]]:
    """Every row by its line, a value for each column. cut: the last line may not be whole. Raises `DatasetError` with the line."""
    text = data.decode("utf-8-sig", "replace").replace("\0", " ")
    if path.lower().endswith((".jsonl", ".ndjson")):
        lines = text.split("\n")
        for number, line in enumerate(lines[:-1] if cut and len(lines) > 1 else lines, 1):
            if not line.strip():
                continue
            try:
                row = json.loads(line)
            except (ValueError, RecursionError) as error:
                raise DatasetError(f"{path}, line {number}: not JSON ({error})") from None
            if not isinstance(row, dict):
                raise DatasetError(f"{path}, line {number}: expected an object with a file and its label")
            yield number, row
        return
    first = text.split("\n", 1)[0]
    delimiter = max(",;\t", key=first.count)
    try:
        reader = csv.reader(io.StringIO(text), delimiter=delimiter)
        head = next(reader, [])
        if "file" not in columns_of(head) and head and head[0].lower().endswith(READABLE):
            # No line of names: a picture and its class, or a picture, four corners and a class.
            names = {2: ["file", "label"], 6: ["file", "x1", "y1", "x2", "y2", "label"]}.get(len(head), [])
            if names:
                yield 1, dict(zip(names, head, strict=True))
                head = names
        for row in reader:
            if any(cell.strip() for cell in row):
                yield reader.line_num, {name: cell.strip() for name, cell in zip(head, row, strict=False)}
    except csv.Error as error:
        raise DatasetError(f"{path}: not a table ({error})") from None


def read(tree: Tree, problems: ReadProblems, options: ImportOptions, only: str | None = None) -> Reading:
    """All tables, or `only` one. Raises `DatasetError` with file and line."""
    files = tree.files
    rows: dict[str, list[tuple[str, dict[str, Any]]]] = {}
    columns: dict[str, str] = {}
    splits: dict[str, str] = {}
    names: dict[str, None] = {}
    largest, boxes = 0.0, 0
    more = dict[str, None]()
    for path in [only] if only else [path for path in tree.ending(*SUFFIXES) if _fits(tree, path)]:
        data = files.read(path)
        if len(data) > LARGEST_TABLE:
            raise DatasetError(f"{path}: {len(data)} bytes are too many for a table")
        for number, row in _rows(path, data):
            place = f"{path}, line {number}"
            own = columns_of(row)
            columns |= {meaning: name for meaning, name in own.items() if meaning not in columns}
            more |= dict.fromkeys(fields_of(row, own))
            name = row.get(own.get("file", ""))
            key = tree.named(name) if isinstance(name, str) and name.strip() else None
            if key is None:
                problems.note("missing-file", f"{place}: there is no picture {str(name)[:120]!r}")
                continue
            rows.setdefault(key, []).append((place, row))
            label = _label(row, own)
            if label:
                names.setdefault(label)
            split = SPLIT_WORDS.get(str(row.get(own.get("split", ""), "")).strip().lower())
            if split:
                splits.setdefault(key, split)
            try:
                box = box_of(row, own, place)
            except DatasetError:
                continue  # noted when its picture is read
            if box is not None:
                boxes += 1
                largest = max(largest, *map(abs, box))
    if not rows:
        raise DatasetError(problems.noted[0][1] if problems.noted else f"{files.label}: no table names a picture that is here")
    unnamed = [path for path in tree.pictures if path not in rows] if not only else []
    if unnamed:
        problems.remark("unlisted", f"{len(unnamed)} pictures stand in no row and are left out, such as {unnamed[0]}")
    problems.remark("columns", "columns read: " + ", ".join(f"{name} as {meaning}" for meaning, name in columns.items()))
    if more:
        problems.remark("fields", f"columns kept as attributes: {', '.join(list(more)[:20])}")
    drawn: dict[str, str] = {}
    if not splits and not any(split_from_path(key) for key in rows):
        by_class: dict[str, list[str]] = {}
        for key, found in rows.items():
            by_class.setdefault(_label(found[0][1], columns) if not boxes else "", []).append(key)
        drawn = default_splits(by_class)
    listed = (ListedImage(key, (splits.get(key) or split_from_path(key) or drawn.get(key, "train"), found)) for key, found in sorted(rows.items()))
    fractions = bool(boxes) and largest <= 1.0
    if fractions:
        problems.remark("fractions", "no coordinate is above 1: read as shares of the pictures' sides")
    classes = tuple(sorted(names))
    return Reading(
        classes, listed, _Read(files, numbered(classes), fractions), len(rows), problems, drawn=bool(drawn), columns=columns, pictures=rows.keys
    )


def _label(row: dict[str, Any], columns: dict[str, str]) -> str:
    value = row.get(columns.get("label", ""))
    return str(value).strip()[:200] if isinstance(value, (str, int, float)) and not isinstance(value, bool) else ""


@dataclass(frozen=True, slots=True)
class _Read:
    files: SourceFiles
    #: The number of each class.
    numbers: Mapping[str, int]
    fractions: bool

    def __call__(self, image: ListedImage, problems: ReadProblems) -> Entry:
        split, rows = image.body
        size = size_of(self.files, image.key)
        numbers, boxes, whole, fields = [], [], [], []
        extra: dict[str, Any] = {}
        for place, row in rows:
            columns = columns_of(row)
            label = _label(row, columns)
            try:
                box = box_of(row, columns, place)
                if box is not None and not label:
                    raise DatasetError(f"{place}: a box without a label")
                if box is not None and (box[2] < box[0] or box[3] < box[1]):
                    raise DatasetError(f"{place}: the box {' '.join(f'{value:g}' for value in box)} is not from low to high")
            except DatasetError as error:
                problems.note("bad-label", str(error))
                continue
            if box is not None:
                numbers.append(self.numbers[label])
                fields.append(fields_of(row, columns))
                boxes.append(in_pixels(box, size, self.fractions))
                continue
            extra |= fields_of(row, columns)
            if label and label not in whole:
                whole.append(label)
        count = len(boxes)
        if not count:
            return Entry(image.key, split, size, no_objects(image.key), extra, classes=tuple(whole))
        objects = make_objects([str(n + 1) for n in range(count)], image.key, numbers, boxes, [None] * count, [None] * count,
                               [[]] * count, [False] * count, fields)  # fmt: skip
        return Entry(image.key, split, size, objects, extra, classes=tuple(whole))


class TableWriter(Writer):
    """Writes pictures and `labels.csv`."""

    name = NAME
    title = "table (CSV)"
    layout = "Pictures in `images/<split>/`; `labels.csv` has a row for each label: file, split, label and corners of its box."
    holds = frozenset(("boxes", "image_classes"))

    def encode_labels(self, file: str, labels: ImageLabels) -> EncodedLabels:
        rows: list[list[Any]] = [[name] for name in sorted(labels.classes)]
        for number, box in zip(labels.objects.classes.tolist(), labels.objects.boxes.round(4).tolist(), strict=True):
            rows.append([self.dataset.classes[number], *box])
        return EncodedLabels(labels=[json_bytes(row) for row in rows])

    def write_label_files(self, folder: Path, splits: list[str], images: Iterable[WrittenImage]) -> list[str]:
        boxes = bool(self.contents.boxes)
        with (folder / WRITTEN).open("w", encoding="utf-8", newline="") as stream:
            table = csv.writer(stream, lineterminator="\n")
            table.writerow(["file", "split", "label", *(("x1", "y1", "x2", "y2") if boxes else ())])
            for image in images:
                rows = [orjson.loads(label) for label in image.labels] or [[""]]
                table.writerows([image.file, image.split, *row] + [""] * (5 - len(row) if boxes else 0) for row in rows)
        return [WRITTEN]
