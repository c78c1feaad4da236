"""The rows of an edition: one line for every image written."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO, NotRequired, TypedDict, cast

import orjson

from varlen.editions.keyed_lines import line_with, opened, parsed
from varlen.editions.record import ROWS
from varlen.errors import EditionError
from varlen.pipeline.trace import Trace


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
