"""A few images of an edition at a time: made, written, and recorded by one file written whole.

A worker needs nothing but the folder an export works in: the job lies there, so the same
function serves this process, processes beside it, and machines that see the folder.
"""

from __future__ import annotations

import copy
import hashlib
import os
import pickle
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from itertools import islice
from pathlib import Path
from typing import BinaryIO

import numpy as np
import orjson

from varlen.atomic_files import write_whole
from varlen.datasets.dataset import Dataset
from varlen.datasets.digests import labels_digest
from varlen.datasets.entry import StoredEntries
from varlen.datasets.formats import WRITERS
from varlen.datasets.formats.base import EncodedLabels, FileNames, ImageLabels, fitting_name, spread
from varlen.datasets.summary import box_sides
from varlen.editions.export_spec import ExportSpec
from varlen.errors import DAMAGE, EditionError, VarlenError
from varlen.pipeline.document import Pipeline
from varlen.pipeline.plan import Plan
from varlen.render.renderer import Renderer, VariantLabels
from varlen.render.source_pictures import PictureCache

#: Images a chunk.
CHUNK = 8
#: An image's variants follow one another, so a few decoded pictures suffice; the memory must not grow with their number.
CACHE_BYTES = 64 << 20
SORTED = orjson.OPT_SORT_KEYS
#: Box sides are counted in half octaves from 1 px on.
SIDE_BINS = 28
JOB = "job.pickle"
ENTRIES = "entries.pickles"


class ImageFailed(EditionError):
    """One image can't be made; the chunks already written are kept for resuming."""


@dataclass(frozen=True, slots=True)
class LeftOut:
    """A variant that could not be made and was left out, as its user wished."""

    image: str
    variant: int
    reason: str

    def to_bytes(self) -> bytes:
        """One line."""
        return orjson.dumps({"left_out": [self.image, self.variant, self.reason]}) + b"\n"


@dataclass(frozen=True, slots=True)
class WrittenRow:
    """One written image on its way from a worker to the edition: what is counted, and lines ready to be put together.

    classes: objects per class; outcomes: objects whole, clipped, dropped; sides: boxes by `side_bins`; image_classes: the image's own.
    """

    split: str
    file: str
    pixel_digest: str
    label_files: dict[str, str]
    classes: list[int]
    outcomes: list[int]
    sides: list[int]
    blank: float
    image_classes: list[str]
    row: bytes
    image: bytes
    labels: list[bytes]

    def to_bytes(self) -> bytes:
        """A line that says how many labels follow, the row, the image, the labels."""
        head = orjson.dumps([self.split, self.file, self.pixel_digest, self.label_files, self.classes, self.outcomes, self.sides, self.blank,
                             self.image_classes, len(self.labels)])  # fmt: skip
        return b"\n".join([head, self.row, self.image, *self.labels, b""])


def read_chunk(lines: BinaryIO) -> Iterator[WrittenRow | LeftOut]:
    """What one chunk's file holds."""
    for line in lines:
        head = orjson.loads(line)
        if isinstance(head, dict):
            yield LeftOut(*head["left_out"])
            continue
        split, file, digest, label_files, classes, outcomes, sides, blank, whole, count = head
        row, image, *labels = [next(lines).rstrip(b"\n") for _ in range(2 + count)]
        yield WrittenRow(split, file, digest, label_files, classes, outcomes, sides, blank, whole, row, image, labels)


def chunk_file(part: Path, number: int) -> Path:
    """Where a chunk says that it is done."""
    return part / "chunks" / f"{number:06d}.jsonl"


def side_bins(sides: np.ndarray[tuple[int], np.dtype[np.float64]]) -> list[int]:
    """Counts of box sides, px, in half octaves: bin n holds [2^(n/2), 2^((n+1)/2))."""
    places = np.clip(np.floor(2.0 * np.log2(np.maximum(sides, 1.0))), 0, SIDE_BINS - 1).astype(np.int64)
    counts: list[int] = np.bincount(places, minlength=SIDE_BINS).tolist()
    return counts


class ChunkWriter:
    """Makes and writes the variants of a few images at a time; one in every worker."""

    def __init__(self, dataset: Dataset, pipeline: Pipeline, spec: ExportSpec, part: Path, counts: dict[str, int]) -> None:
        """counts: images that are written of each split."""
        self.dataset, self.spec, self.part, self.counts = dataset, spec, part, counts
        self.renderer = Renderer(dataset, pipeline, PictureCache(CACHE_BYTES))
        self.names = FileNames(dataset)
        self.writer = WRITERS[spec.format](dataset)
        self._folders: set[Path] = set()
        self._digested = ("", "")

    def moved_to(self, part: Path) -> None:
        """Write into another folder from now on."""
        self.part = part
        self._folders.clear()

    def write(self, number: int, images: list[tuple[str, range]], leave_out: bool = False) -> int:
        """Write a chunk, `images` with the numbers of their variants, and its record; returns the number of variants dealt with.

        All labels first, then all pixels: each kind of work finds its own data in the processor's
        caches. leave_out: skip what can't be made, else raise `ImageFailed`.
        """
        lines: list[WrittenRow | LeftOut] = []
        wanted = [(key, variant) for key, variants in images for variant in variants]
        for place in range(0, len(wanted), 32):
            planned = [self._tried(self._planned, leave_out, *each) for each in wanted[place : place + 32]]
            lines += [each if isinstance(each, LeftOut) else self._tried(self._written, leave_out, *each) for each in planned]
        write_whole(chunk_file(self.part, number), b"".join(line.to_bytes() for line in lines))
        return len(lines)

    def _tried(self, make, leave_out: bool, key: str, variant: int, *more):  # type: ignore[no-untyped-def]
        try:
            return make(key, variant, *more)
        except (VarlenError, *DAMAGE) as error:
            if isinstance(error, OSError) and error.errno is not None:
                raise  # the disk, not the picture
            if leave_out:
                return LeftOut(key, variant, str(error))
            raise ImageFailed(f"{key}, variant {variant}: {error}") from None

    def _planned(self, key: str, variant: int) -> tuple[str, int, Plan, VariantLabels, str, EncodedLabels]:
        entry = self.dataset.entries[key]
        plan = self.renderer.plan(key, variant)
        outcome = self.renderer.variant_labels(key, variant, plan)
        label_map = self.renderer.label_map(plan) if self.writer.label_maps else None
        labels = ImageLabels(outcome.size, outcome.objects, outcome.classes, label_map, entry.extra)
        suffix = self.writer.suffix_for(self.spec.image)
        folder = spread(key, self.counts.get(entry.split, 0)) if self.writer.spreads else ""
        name = fitting_name(self.names[key], f"_v{variant}", suffix, key)
        file = self.writer.picture_path(entry.split, f"{folder}{name}", suffix, labels)
        return key, variant, plan, outcome, file, self.writer.encode_labels(file, labels)

    def _written(self, key: str, variant: int, plan: Plan, outcome: VariantLabels, file: str, described: EncodedLabels) -> WrittenRow:
        entry, trace = self.dataset.entries[key], outcome.trace
        pixels = self.renderer.render_pixels(plan, outcome)
        data = self.writer.picture(pixels, self.spec.image, self.spec.quality)
        self._save(file, data)
        for path, content in described.files.items():
            self._save(path, content)
        classes = np.bincount(outcome.objects.classes, minlength=len(self.dataset.classes)).tolist()
        row = {
            "file": file,
            "split": entry.split,
            "source": key,
            "source_sha256": trace["source_sha256"],
            "source_labels": self._labels_digest(key),
            "variant": variant,
            "file_sha256": hashlib.sha256(data).hexdigest(),
            "pixel_digest": trace["pixel_digest"],
            "classes": {name: count for name, count in zip(self.dataset.classes, classes, strict=True) if count},
            "trace": trace,
        }
        label_files = {path: hashlib.sha256(content).hexdigest() for path, content in sorted(described.files.items())}
        if label_files:
            row["label_files"] = label_files
        if outcome.classes:
            row["image_classes"] = sorted(outcome.classes)
        found = trace["objects"]
        outcomes = [found["kept"], found["clipped"], len(found["dropped"])]
        sides = side_bins(box_sides(outcome.objects.boxes))
        return WrittenRow(entry.split, file, trace["pixel_digest"], label_files, classes, outcomes, sides, trace["blank_share"],
                      sorted(outcome.classes), orjson.dumps(row, option=SORTED), described.image, described.labels)  # fmt: skip

    def _labels_digest(self, key: str) -> str:
        """Of the source's labels; its variants follow one another, so one is kept."""
        if self._digested[0] != key:
            self._digested = key, labels_digest(self.dataset.entries[key], self.dataset.classes)
        return self._digested[1]

    def _save(self, path: str, data: bytes) -> None:
        target = self.part / path
        if target.parent not in self._folders:
            target.parent.mkdir(parents=True, exist_ok=True)
            self._folders.add(target.parent)
        target.write_bytes(data)


def write_job(part: Path, dataset: Dataset, pipeline: Pipeline, spec: ExportSpec, counts: dict[str, int], elsewhere: bool = False) -> None:
    """Put what workers need into the folder. elsewhere: workers may be on other machines, which see nothing but it."""
    entries = dataset.entries
    if elsewhere and isinstance(entries, StoredEntries):
        dataset = copy.copy(dataset)
        dataset.entries = entries.copied(part / ENTRIES)
    write_whole(part / JOB, pickle.dumps((dataset, pipeline, spec, counts), pickle.HIGHEST_PROTOCOL))


@lru_cache(maxsize=1)
def _worker(part: str, begun: int) -> ChunkWriter:
    dataset, pipeline, spec, counts = pickle.loads((Path(part) / JOB).read_bytes())
    return ChunkWriter(dataset, pipeline, spec, Path(part), counts)


def write_chunk(part: str, begun: int, number: int, images: list[tuple[str, range]], leave_out: bool) -> int:
    """Write one chunk of the job in folder `part`. begun: tells jobs apart that used the same folder."""
    return _worker(part, begun).write(number, images, leave_out)


#: Pixels of source images, counted for each image that is made of them, for which others begin to pay: loading everything takes a process
#: about as long as making half of these.
WORTH = 140_000_000
#: Images from whose sizes that of all is taken.
LOOKED_AT = 200


def fitting_workers(dataset: Dataset, images: int) -> int:
    """As many processes as there are cores; one where so few images are made that others would begin too late."""
    sizes = [entry.size for entry in islice(dataset.entries.values(), LOOKED_AT)]
    pixels = sum(size.width * size.height for size in sizes) / max(len(sizes), 1)
    return (os.cpu_count() or 1) if images * pixels >= WORTH else 1
