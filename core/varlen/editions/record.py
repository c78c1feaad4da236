"""The record of an edition: the files that say what it is, and how they are written and read."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Mapping
from pathlib import Path
from typing import Any, NotRequired, TypedDict, cast

import numpy as np
import orjson

from varlen.datasets.convert import Loss
from varlen.datasets.dataset import Dataset
from varlen.datasets.summary import box_sides
from varlen.editions.chunks import SIDE_BINS, WrittenRow, side_bins
from varlen.editions.export_spec import ExportSpec, SpecFields
from varlen.errors import EditionError, VarlenError
from varlen.stores import Store, url_of

RECORD = "edition.json"
ROWS = "rows.jsonl"
#: The labels of the source images.
SOURCES = "sources.jsonl"
#: For the recipient of the edition.
CARD = "README.md"
#: Numbers from training, attached later; not part of what was made.
SCORES = "scores.jsonl"
#: Whose signature the record bears, where it bears any.
SIGNATURE = "signature.json"


#: What an edition is made from; with its rows and label files this decides the output digest.
DIGESTED = ("varlen", "dataset_digest", "pipeline_digest", "seed", "variants", "originals", "format", "image", "quality")


class SplitCount(TypedDict):
    """Images, objects and objects per class of a split; images per class where images have classes."""

    images: int
    objects: int
    classes: dict[str, int]
    image_classes: NotRequired[dict[str, int]]


class LeftOutRecord(TypedDict):
    """A variant that could not be made and was left out."""

    source: str
    variant: int
    reason: str


class EditionHead(SpecFields):
    """What an edition is made from, known before its first image. varlen: the version that makes it.

    lost: kinds of labels that the format keeps nothing of; read_as: options that the dataset was read with; splits_drawn:
    where its splits were drawn for want of any in its files.
    """

    varlen_edition: int
    varlen: str
    dataset: str
    dataset_path: str
    dataset_digest: str
    pipeline: dict[str, Any]
    pipeline_digest: str
    seed: int
    lost: NotRequired[list[Loss]]
    read_as: NotRequired[dict[str, Any]]
    splits_drawn: NotRequired[bool]


class EditionRecord(EditionHead):
    """`edition.json`: the whole record.

    outside_steps: SHA-256 of the files of steps that are not built in, by their names; packed: pictures are inside
    larger files; normalized: what was subtracted from levels of 0-255 in each channel, and what they were divided by; files:
    SHA-256 of the files that are not one image's own, by path; reduced: what the format holds only in
    part, in words; known_as: what a server calls it, which dataset that was and who ordered it, so that this outlives its database;
    source_labels: SHA-256 of the labels of its source images; record_digest: see `record_digest`.
    """

    output_digest: str
    counts: dict[str, SplitCount]
    statistics: dict[str, Any]
    files: dict[str, str]
    versions: dict[str, str]
    outside_steps: NotRequired[dict[str, str]]
    packed: NotRequired[bool]
    normalized: NotRequired[dict[str, list[float]]]
    left_out: NotRequired[list[LeftOutRecord]]
    reduced: NotRequired[list[str]]
    known_as: NotRequired[dict[str, str]]
    source_labels: NotRequired[str]
    record_digest: NotRequired[str]


class OutputDigest:
    """The digest of an edition, gathered as it is written or read again, in the order of its rows."""

    def __init__(self, head: EditionHead) -> None:
        more = ("splits", "split_variants", "total", "per_class", "balance")
        made_from = {key: head.get(key) for key in DIGESTED} | {key: value for key, value in head.items() if key in more}
        self._digest = hashlib.sha256(orjson.dumps(made_from, option=orjson.OPT_SORT_KEYS))

    def add_image(self, file: str, pixel_digest: str, label_files: dict[str, str]) -> None:
        """One row: its picture, and the digests of its own label files."""
        self._digest.update(f"\n{file} {pixel_digest}".encode())
        for path, sha256 in sorted(label_files.items()):
            self.add_labels(path, sha256)

    def add_labels(self, path: str, sha256: str) -> None:
        """One label file: an image's own, or after all rows one for many."""
        self._digest.update(f"\n{path} {sha256}".encode())

    def __str__(self) -> str:
        return "sha256:" + self._digest.hexdigest()


def record_digest(record: Mapping[str, Any]) -> str:
    """A digest of the whole record but itself; with the digests of rows and label files in it, of everything that is said of an edition."""
    said = {name: value for name, value in record.items() if name != "record_digest"}
    return "sha256:" + hashlib.sha256(orjson.dumps(said, option=orjson.OPT_SORT_KEYS)).hexdigest()


def image_count(record: Mapping[str, Any]) -> int:
    """How many images an edition has, by its record; 0 where that is damaged."""
    counts = record.get("counts")
    return sum(split["images"] for split in counts.values()) if isinstance(counts, dict) else 0


def read_record(folder: Path) -> EditionRecord:
    """The record of an edition, in a folder or at the URL of one in an object store. Raises `EditionError` when there is none."""
    url = url_of(folder)
    try:
        record = orjson.loads(Store(url).read(RECORD) if url else (folder / RECORD).read_bytes())
    except VarlenError as error:
        raise EditionError(f"{url}: no edition here ({error})") from None
    except OSError:
        raise EditionError(f"{folder}: no edition here (there is no {RECORD})") from None
    except (orjson.JSONDecodeError, ValueError) as error:
        raise EditionError(f"{folder / RECORD}: damaged ({error})") from None
    if not isinstance(record, dict) or record.get("varlen_edition") != 1:
        raise EditionError(f"{folder / RECORD}: not the record of an edition")
    return cast(EditionRecord, record)


class Statistics:
    """Images, objects per class, box sides and fates; `before`: the source images of the splits that are written."""

    def __init__(self, dataset: Dataset, spec: ExportSpec) -> None:
        self.classes = dataset.classes
        self.splits = spec.written(dataset.splits())
        self._images = dict.fromkeys(self.splits, 0)
        self._objects = {split: np.zeros(len(self.classes), np.int64) for split in self.splits}
        self._sides = {split: np.zeros(SIDE_BINS, np.int64) for split in self.splits}
        self._whole: dict[str, Counter[str]] = {split: Counter() for split in self.splits}
        self._outcomes = np.zeros(3, np.int64)
        self._blank = 0.0
        self._before = _Source(dataset, self.splits)

    def add(self, record: WrittenRow) -> None:
        """Count one image."""
        self._images[record.split] += 1
        self._whole[record.split].update(record.image_classes)
        self._objects[record.split] += np.array(record.classes, np.int64)
        self._sides[record.split] += np.array(record.sides, np.int64)
        self._outcomes += np.array(record.outcomes, np.int64)
        self._blank += record.blank

    def counts(self) -> dict[str, SplitCount]:
        """Images, objects and objects per class of every split."""
        return {split: _counted(self._images[split], self._objects[split], self.classes, self._whole[split]) for split in self.splits}

    def to_json(self) -> dict[str, Any]:
        """Before and after: counts per split and box sides; what became of objects; mean blank share."""
        whole, clipped, dropped = self._outcomes.tolist()
        images = sum(self._images.values())
        return {
            "before": self._before.counts,
            "box_side_px": {
                "from": [round(2.0 ** (place / 2), 2) for place in range(SIDE_BINS)],
                "before": {split: sides.tolist() for split, sides in self._before.sides.items()},
                "after": {split: sides.tolist() for split, sides in self._sides.items()},
            },
            "objects": {"kept": whole, "clipped": clipped, "dropped": dropped},
            "blank_share": round(self._blank / max(images, 1), 6),
        }


class _Source:
    """The same counts over the source images."""

    def __init__(self, dataset: Dataset, splits: list[str]) -> None:
        images = dict.fromkeys(splits, 0)
        whole: dict[str, Counter[str]] = {split: Counter() for split in splits}
        objects = {split: np.zeros(len(dataset.classes), np.int64) for split in splits}
        self.sides = {split: np.zeros(SIDE_BINS, np.int64) for split in splits}
        for entry in dataset.entries.values():
            if entry.split in images:
                images[entry.split] += 1
                whole[entry.split].update(entry.classes)
                objects[entry.split] += np.bincount(entry.objects.classes, minlength=len(dataset.classes))
                self.sides[entry.split] += np.array(side_bins(box_sides(entry.objects.boxes)), np.int64)
        self.counts = {split: _counted(images[split], objects[split], dataset.classes, whole[split]) for split in splits}


def _counted(images: int, objects: np.ndarray[tuple[int], np.dtype[np.int64]], classes: tuple[str, ...], whole: Counter[str]) -> SplitCount:
    found: SplitCount = {"images": images, "objects": int(objects.sum()), "classes": dict(zip(classes, objects.tolist(), strict=True))}
    if whole:
        found["image_classes"] = dict(sorted(whole.items()))
    return found
