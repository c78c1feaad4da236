"""An edition on disk, as code handles it."""

from __future__ import annotations

from pathlib import Path
from typing import Any, NamedTuple

from varlen.editions.record import EditionRecord, SplitCount, read_record
from varlen.editions.verify import Problem


class Verdict(NamedTuple):
    """What a check of an edition found; true when all is well. problems: {"file", "problem"} of each thing that is not as it was.

    >>> import varlen as v
    >>> bool(v.Verdict(False, [{"file": "a.jpg", "problem": "missing"}]))
    False
    """

    good: bool
    problems: list[Problem]

    def __bool__(self) -> bool:
        return self.good


class Edition:
    """An exported dataset: its folder, and its record as plain values. Raises `EditionError` where there is none.

    >>> import varlen as v
    >>> made = v.export("moths", v.Pipeline([v.Resize(width_px=64, height_px=48)]), "small", variants=1)
    >>> v.Edition("small") == made, made.record["format"], made.counts["test"]["images"]
    (True, 'coco', 6)
    """

    def __init__(self, path: Path | str) -> None:
        self.path = Path(path)
        self.record: EditionRecord = read_record(self.path)

    @property
    def output_digest(self) -> str:
        """`sha256:…` over everything that was written: equal for equal dataset, pipeline, seed and order."""
        return self.record["output_digest"]

    @property
    def counts(self) -> dict[str, SplitCount]:
        """Images and objects of each split."""
        return self.record["counts"]

    def __eq__(self, other: object) -> bool:
        return self.output_digest == other.output_digest if isinstance(other, Edition) else NotImplemented

    def __hash__(self) -> int:
        return hash(self.output_digest)

    def __fspath__(self) -> str:
        return str(self.path)

    def __repr__(self) -> str:
        counts: dict[str, Any] = {split: count["images"] for split, count in self.counts.items()}
        images = ", ".join(f"{split} {count}" for split, count in counts.items())
        return f"Edition({str(self.path)!r}: {images} images as {self.record['format']}, {self.output_digest[:19]}…)"
