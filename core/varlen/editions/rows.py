"""The rows of an edition: one line for every image written."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import orjson

from varlen.editions.record import ROWS
from varlen.errors import EditionError


def read_rows(edition: Path) -> Iterator[dict[str, Any]]:
    """Row after row. Raises `EditionError` when the list is missing or damaged."""
    path = edition / ROWS
    try:
        with path.open("rb") as lines:
            for line in lines:
                yield orjson.loads(line)
    except OSError as error:
        raise EditionError(f"{path}: {error.strerror or error}") from None
    except orjson.JSONDecodeError as error:
        raise EditionError(f"{path}: damaged ({error})") from None


def find_row(edition: Path, wanted: str) -> dict[str, Any]:
    """The row with this number, or of this file. Raises `EditionError` when there is none."""
    for row in read_rows(edition):
        if str(row["row"]) == wanted or row["file"] == wanted:
            return row
    raise EditionError(f"{edition / ROWS}: there is no row {wanted}")
