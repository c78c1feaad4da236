"""The rows of an edition: one line for every image written."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import NotRequired, TypedDict, cast

import orjson

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


def read_rows(edition: Path) -> Iterator[Row]:
    """Row after row. Raises `EditionError` when the list is missing or damaged."""
    path = edition / ROWS
    try:
        with path.open("rb") as lines:
            for line in lines:
                row = orjson.loads(line)
                if not isinstance(row, dict):
                    raise EditionError(f"{path}: damaged (a line is no row)")
                yield cast(Row, row)
    except OSError as error:
        raise EditionError(f"{path}: {error.strerror or error}") from None
    except (orjson.JSONDecodeError, ValueError) as error:
        raise EditionError(f"{path}: damaged ({error})") from None


def find_row(edition: Path, wanted: str) -> Row:
    """The row with this number, or of this file. Raises `EditionError` when there is none."""
    for row in read_rows(edition):
        if str(row["row"]) == wanted or row["file"] == wanted:
            return row
    raise EditionError(f"{edition / ROWS}: there is no row {wanted}")
