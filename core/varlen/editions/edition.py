"""A finished edition, and what differs between two."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any, NamedTuple

from varlen.editions.export_spec import SPEC_FIELDS
from varlen.editions.record import EditionRecord, SplitCount, read_record
from varlen.editions.rows import read_rows
from varlen.editions.verify import Problem
from varlen.pipeline.document import differences


class Verdict(NamedTuple):
    """What a check of an edition found; true when all is well. problems: {"file", "problem"} of each thing that is not as it was.

    not_checked: what of the record a deep check can't make anew, by name; the record digest that the export told covers it.

    >>> import varlen as v
    >>> bool(v.Verdict(False, [{"file": "a.jpg", "problem": "missing"}]))
    False
    """

    good: bool
    problems: list[Problem]
    not_checked: list[str] = []  # noqa: RUF012, a tuple's default is never written to

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


#: Of a long list of images this many are named.
NAMED = 20


def compare(one: Path, other: Path) -> dict[str, Any]:
    """Dataset, pipeline, order, counts and label statistics side by side, as plain values.

    Images are known by their path in the dataset: those only one edition has, those whose
    picture, labels or split differ. Raises `EditionError` when one can't be read.
    """
    a, b = read_record(one), read_record(other)
    return {
        "same": a["output_digest"] == b["output_digest"],
        "output_digest": [a["output_digest"], b["output_digest"]],
        "dataset": _datasets(one, other, a, b),
        "pipeline": {
            "same": a["pipeline_digest"] == b["pipeline_digest"],
            "changes": [change.to_json() for change in differences(a["pipeline"], b["pipeline"])],
        },
        "order": {name: [a.get(name), b.get(name)] for name in SPEC_FIELDS if a.get(name) != b.get(name)},
        "seed": [a["seed"], b["seed"]],
        "varlen": [a["varlen"], b["varlen"]],
        "counts": _counts(a, b),
        "statistics": [a.get("statistics", {}), b.get("statistics", {})],
    }


def _datasets(one: Path, other: Path, a: EditionRecord, b: EditionRecord) -> dict[str, Any]:
    found: dict[str, Any] = {"same": a["dataset_digest"] == b["dataset_digest"], "names": [a["dataset"], b["dataset"]]}
    first, second = (list(_classes(record)) for record in (a, b))
    found["classes_only"] = [[name for name in first if name not in second], [name for name in second if name not in first]]
    if found["same"]:
        return found
    left, right = dict(_sources(one)), dict(_sources(other))
    both = left.keys() & right.keys()
    found["images_only"] = [_named(left.keys() - right.keys()), _named(right.keys() - left.keys())]
    for place, what in enumerate(("pictures", "labels", "splits")):
        found[what] = _named({key for key in both if left[key][place] != right[key][place]})
    return found


def _sources(folder: Path) -> Iterator[tuple[str, tuple[str, str, str]]]:
    """Every source image with the digests of its picture and its labels, and its split."""
    for row in read_rows(folder):
        yield row["source"], (row["source_sha256"], row.get("source_labels", ""), row["split"])


def _named(keys: set[str]) -> dict[str, Any]:
    return {"count": len(keys), "first": sorted(keys)[:NAMED]}


def _classes(record: EditionRecord) -> dict[str, None]:
    return dict.fromkeys(name for split in record["counts"].values() for name in split["classes"])


def _counts(a: EditionRecord, b: EditionRecord) -> dict[str, Any]:
    """Images, objects and objects per class of each split, in both; 0 where one has none."""
    found: dict[str, Any] = {}
    for split in dict.fromkeys([*a["counts"], *b["counts"]]):
        here = [record["counts"].get(split, {"images": 0, "objects": 0, "classes": {}}) for record in (a, b)]
        names = dict.fromkeys([*here[0]["classes"], *here[1]["classes"]])
        found[split] = {
            "images": [each["images"] for each in here],
            "objects": [each["objects"] for each in here],
            "classes": {name: [each["classes"].get(name, 0) for each in here] for name in names},
        }
    return found
