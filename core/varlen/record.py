"""The record of an edition: the files that say what it is, and how they are written and read."""

from __future__ import annotations

import hashlib
import os
from pathlib import Path
from typing import Any

import orjson

from varlen.errors import EditionError

RECORD = "edition.json"
ROWS = "rows.jsonl"


def read_record(folder: Path) -> dict[str, Any]:
    """The record of an edition. Raises `EditionError` when there is none."""
    try:
        record = orjson.loads((folder / RECORD).read_bytes())
    except OSError:
        raise EditionError(f"{folder}: no edition here (there is no {RECORD})") from None
    except orjson.JSONDecodeError as error:
        raise EditionError(f"{folder / RECORD}: damaged ({error})") from None
    if not isinstance(record, dict) or record.get("varlen_edition") != 1:
        raise EditionError(f"{folder / RECORD}: not the record of an edition")
    return record


def file_digest(path: Path) -> str:
    """SHA-256 of a file, in hex."""
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()


def write_whole(path: Path, data: bytes) -> None:
    """Write a file so that it is there whole or not at all."""
    partial = path.with_name(path.name + ".part")
    with partial.open("wb") as stream:
        stream.write(data)
        stream.flush()
        os.fsync(stream.fileno())
    partial.rename(path)
