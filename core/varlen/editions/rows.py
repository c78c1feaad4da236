"""The rows of an edition: one line for every image written."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO, NotRequired, TypedDict, cast

import orjson

from varlen.editions.record import ROWS
from varlen.errors import EditionError, VarlenError
from varlen.pipeline.trace import Trace
from varlen.stores import Store, url_of


class Row(TypedDict):
    """One image of an edition: its file, what it was made from, and its trace.

    source: the image's key in its dataset; source_labels: the digest of its labels there; classes: objects per class;
    label_files: SHA-256 of its own label files, by path; image_classes: its own classes.
    """

    row: int
    file: str
    split: str
    source: str
    source_sha256: str
    source_labels: NotRequired[str]
    variant: int
    file_sha256: str
    pixel_digest: str
    classes: dict[str, int]
    trace: Trace
    label_files: NotRequired[dict[str, str]]
    image_classes: NotRequired[list[str]]


def images_of(row: Row) -> dict[str, str]:
    """The source images that a row was made from, its own and its partners': SHA-256 of their files by their keys."""
    return {row["source"]: row["source_sha256"], **row["trace"].get("partners_sha256", {})}


def read_rows(edition: Path) -> Iterator[Row]:
    """Row after row, of a folder or the URL of one. Raises `EditionError` when the list is missing or damaged."""
    path = edition / ROWS
    try:
        with _opened(edition) as lines:
            for line in lines:
                yield _row(line, path)
    except OSError as error:
        raise EditionError(f"{path}: {error.strerror or error}") from None


def find_row(edition: Path, wanted: str) -> Row:
    """The row with this number, or of this file, without reading the others. Raises `EditionError` when there is none."""
    path = edition / ROWS
    try:
        with _opened(edition) as lines:
            found = _numbered(lines, int(wanted), path) if wanted.isdecimal() else None
            if found is None:
                found = _of_file(lines, wanted, path)
    except OSError as error:
        raise EditionError(f"{path}: {error.strerror or error}") from None
    if found is None:
        raise EditionError(f"{path}: there is no row {wanted}")
    return found


def _opened(edition: Path) -> BinaryIO:
    if url := url_of(edition):
        try:
            return cast(BinaryIO, Store(url).open(ROWS))
        except VarlenError as error:
            raise EditionError(str(error)) from None
    return (edition / ROWS).open("rb")


def _row(line: bytes, path: Path) -> Row:
    try:
        row = orjson.loads(line)
    except ValueError as error:
        raise EditionError(f"{path}: damaged ({error})") from None
    if not isinstance(row, dict):
        raise EditionError(f"{path}: damaged (a line is no row)")
    return cast(Row, row)


def _numbered(lines: BinaryIO, number: int, path: Path) -> Row | None:
    """The row with a number. Rows stand in the order of their numbers: half of what is left is ruled out with each look."""
    low, high = 0, lines.seek(0, os.SEEK_END)
    while low < high:
        middle = (low + high) // 2
        lines.seek(max(low, middle - 1))
        if middle > low:
            lines.readline()  # the rest of a line that begins before
        begun = lines.tell()
        line = lines.readline() if begun < high else b""
        if not line:
            high = middle  # no line begins in the upper half: what is wanted, if anything, begins in the lower
            continue
        row = _row(line, path)
        if row["row"] == number:
            return row
        low, high = (begun + len(line), high) if row["row"] < number else (low, middle)
    return None


def _of_file(lines: BinaryIO, file: str, path: Path) -> Row | None:
    """The row of a file: only lines that hold its name are read."""
    lines.seek(0)
    name = orjson.dumps(file)
    for line in lines:
        if name in line:
            row = _row(line, path)
            if row["file"] == file:
                return row
    return None
