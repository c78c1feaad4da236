"""Files of JSON lines that stand in the order of one of their fields: a line is found by a few looks, in a folder or an object store."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any, BinaryIO, NotRequired, TypedDict, cast

import orjson

from varlen.editions.record import ROWS
from varlen.errors import EditionError, VarlenError
from varlen.pipeline.trace import Trace
from varlen.stores import Store, url_of


def opened(edition: Path, name: str) -> BinaryIO:
    """A file of an edition, a folder or the URL of one. Raises `EditionError`, `OSError`."""
    if url := url_of(edition):
        try:
            return cast(BinaryIO, Store(url).open(name))
        except VarlenError as error:
            raise EditionError(str(error)) from None
    return (edition / name).open("rb")


def parsed(line: bytes, path: Path) -> dict[str, Any]:
    """What a line holds. Raises `EditionError` where it is damaged."""
    try:
        found = orjson.loads(line)
    except ValueError as error:
        raise EditionError(f"{path}: damaged ({error})") from None
    if not isinstance(found, dict):
        raise EditionError(f"{path}: damaged (a line is no row)")
    return found


def line_with(lines: BinaryIO, begin: int, field: str, wanted: Any, path: Path) -> dict[str, Any] | None:
    """The line, from the byte `begin` on, that has `wanted` in the field by which the lines are sorted: each look rules out half of what is left."""
    low, high = begin, lines.seek(0, os.SEEK_END)
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
        found = parsed(line, path)
        if found[field] == wanted:
            return found
        low, high = (begun + len(line), high) if found[field] < wanted else (low, middle)
    return None


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
        with opened(edition, ROWS) as lines:
            for line in lines:
                yield cast(Row, parsed(line, path))
    except OSError as error:
        raise EditionError(f"{path}: {error.strerror or error}") from None


def find_row(edition: Path, wanted: str) -> Row:
    """The row with this number, or of this file, without reading the others. Raises `EditionError` when there is none."""
    path = edition / ROWS
    try:
        with opened(edition, ROWS) as lines:
            found = cast(Row | None, line_with(lines, 0, "row", int(wanted), path)) if wanted.isdecimal() else None
            if found is None:
                found = _of_file(lines, wanted, path)
    except OSError as error:
        raise EditionError(f"{path}: {error.strerror or error}") from None
    if found is None:
        raise EditionError(f"{path}: there is no row {wanted}")
    return found


def _of_file(lines: BinaryIO, file: str, path: Path) -> Row | None:
    """The row of a file: only lines that hold its name are read."""
    lines.seek(0)
    name = orjson.dumps(file)
    for line in lines:
        if name in line:
            row = cast(Row, parsed(line, path))
            if row["file"] == file:
                return row
    return None
