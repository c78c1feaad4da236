"""What differs between two editions: what they were made from, and what they hold."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

from varlen.editions.export_spec import SPEC_FIELDS
from varlen.editions.record import EditionRecord, read_record
from varlen.editions.rows import read_rows
from varlen.pipeline.diff import differences

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
