"""Where each row of an edition lies, and what it can be looked up by; made once and kept on disk.

A row is some kilobytes of JSON, an edition may have a hundred thousand: they stay in their
file, and only numbers about them are held.
"""

from __future__ import annotations

import io
from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
import orjson
from django.conf import settings
from numpy.typing import NDArray
from varlen.atomic_files import write_whole
from varlen.editions.record import ROWS, read_record
from varlen.editions.rows import Row
from varlen.errors import EditionError


class RowIndex:
    """Numbers about the rows of one edition.

    starts: (N + 1,) int64 byte offsets; split, variant: (N,) places in `splits`, numbers;
    fired: (N, S) bool, which steps happened; classes: (N, C) bool, which classes are there;
    lost: (N,) objects dropped; sources: the image each row was made from.
    """

    def __init__(self, path: Path, arrays: Mapping[str, NDArray[Any]]) -> None:
        self.path = path
        self.starts, self.split, self.variant, self.lost = (arrays[name] for name in ("starts", "split", "variant", "lost"))
        self.splits, self.steps, self.classes_named, self.sources = (
            arrays[name].tolist() for name in ("splits", "steps", "classes_named", "sources")
        )  # fmt: skip
        self.fired = np.unpackbits(arrays["fired"], axis=1, count=len(self.steps)).astype(bool)
        self.classes = np.unpackbits(arrays["classes"], axis=1, count=len(self.classes_named)).astype(bool)

    def chosen(self, wish: Mapping[str, str]) -> NDArray[np.int64]:
        """Numbers of the rows that answer to split, step, class, variant, lost (0 or 1) and part of the source's name."""
        keep = np.ones(len(self.split), bool)
        if split := wish.get("split"):
            keep &= self.split == (self.splits.index(split) if split in self.splits else -1)
        if step := wish.get("step"):
            keep &= self.fired[:, self.steps.index(step)] if step in self.steps else False
        if name := wish.get("class"):
            keep &= self.classes[:, self.classes_named.index(name)] if name in self.classes_named else False
        if variant := wish.get("variant"):
            keep &= self.variant == (int(variant) if variant.isdigit() else -1)
        if lost := wish.get("lost"):
            keep &= (self.lost > 0) == (lost == "1")
        if source := wish.get("source"):
            keep &= np.array([source == each for each in self.sources], bool)
        if part := wish.get("name", "").lower():
            keep &= np.array([part in source.lower() for source in self.sources], bool)
        return np.flatnonzero(keep)

    def facets(self) -> dict[str, Any]:
        """How many rows each step happened in, how many are of each variant, and how many lost objects."""
        numbers, counts = np.unique(self.variant, return_counts=True)
        return {
            "steps": [{"name": step, "count": count} for step, count in zip(self.steps, self.fired.sum(axis=0).tolist(), strict=False)],
            "variants": [{"name": str(number), "count": count} for number, count in zip(numbers.tolist(), counts.tolist(), strict=True)],
            "lost": int(np.count_nonzero(self.lost)),
        }

    def row(self, number: int) -> Row:
        """One row as it was written. Raises `EditionError` when there is none of that number."""
        if not 0 <= number < len(self.split):
            raise EditionError(f"{self.path}: there is no row {number}")
        with self.path.open("rb") as rows:
            rows.seek(int(self.starts[number]))
            found: Row = orjson.loads(rows.read(int(self.starts[number + 1] - self.starts[number])))
        return found


@lru_cache(maxsize=8)
def index_of(folder: Path, output_digest: str) -> RowIndex:
    """The index of an edition; made on the first call. Raises `EditionError` when its rows can't be read."""
    kept = settings.TILES / "rows" / f"{output_digest.removeprefix('sha256:')}.npz"
    if not kept.exists():
        _write(folder, kept)
    with np.load(kept) as arrays:
        return RowIndex(folder / ROWS, dict(arrays))


def _write(folder: Path, kept: Path) -> None:
    record = read_record(folder)
    steps = [step["id"] for step in record["pipeline"]["steps"]]
    classes = list(dict.fromkeys(name for split in record["counts"].values() for name in split["classes"]))
    splits = list(record["counts"])
    places = {name: place for place, name in enumerate(classes)}
    starts, split, variant, lost, sources = [0], [], [], [], []
    fired, there = [], []
    try:
        with (folder / ROWS).open("rb") as rows:
            for line in rows:
                row = orjson.loads(line)
                starts.append(starts[-1] + len(line))
                split.append(splits.index(row["split"]))
                variant.append(row["variant"])
                lost.append(len(row["trace"]["objects"]["dropped"]))
                sources.append(row["source"])
                happened = {step["id"] for step in row["trace"]["steps"] if step["fired"]}
                fired.append(np.packbits([step in happened for step in steps] or [False]))
                has = np.zeros(max(len(classes), 1), bool)
                has[[places[name] for name in row.get("classes", {}) if name in places]] = True
                there.append(np.packbits(has))
    except (OSError, orjson.JSONDecodeError, KeyError, ValueError) as error:
        raise EditionError(f"{folder / ROWS}: missing or damaged ({error})") from None
    out = io.BytesIO()
    np.savez(out, starts=np.array(starts, np.int64), split=np.array(split, np.int16), variant=np.array(variant, np.int32),
             lost=np.array(lost, np.int32), splits=np.array(splits, str), steps=np.array(steps, str), classes_named=np.array(classes, str),
             sources=np.array(sources, str), fired=np.array(fired, np.uint8), classes=np.array(there, np.uint8))  # fmt: skip
    write_whole(kept, out.getvalue(), lasting=False)
