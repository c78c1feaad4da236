"""Files of JSON lines that stand in the order of one of their fields: a line is found by a few looks, in a folder or an object store."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any, BinaryIO, cast

import orjson

from varlen.errors import EditionError, VarlenError
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
