"""Bring a dataset in: its images in batches, in this process or in several; and what it seems to be, before that.

Nothing is decoded unless a file seems cut off, and nothing but counts and digests is kept, so
memory hardly grows with the number of images.
"""

from __future__ import annotations

import hashlib
from collections import Counter, deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future
from concurrent.futures.process import BrokenProcessPool
from itertools import islice
from pathlib import Path
from typing import Any, TypeVar

from varlen.datasets.entry import Entry
from varlen.datasets.findings import Finding
from varlen.datasets.findings.label_checks import LabelChecks
from varlen.datasets.formats import open_dataset
from varlen.datasets.formats.base import ListedImage, Reading
from varlen.datasets.image_files import read_header
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.ingest import IngestedBatch, IngestedImage, Ingester, StoreFile
from varlen.datasets.sources import SourceFiles
from varlen.datasets.splits import draw_splits, in_order
from varlen.errors import DatasetError, ReadProblems
from varlen.executors import processes
from varlen.shapes.objects_json import objects_to_json

#: How many images are read to say what was recognised.
LOOKED_THROUGH = 2000

#: Images that are ingested together.
BATCH = 25
#: Batches begun before their turn, for each process: some wait while those before them are stored.
AHEAD = 8
#: With fewer images, starting other processes would take longer than ingesting.
WORTH_PROCESSES = 1000

T = TypeVar("T")


class Importer:
    """A dataset being imported with the chosen options. Once all images are through, `findings` lists what looks wrong."""

    def __init__(self, path: Path, options: ImportOptions) -> None:
        """Raises `DatasetError` when it is no dataset, or the choices don't fit it."""
        self.path, self.options = path, options
        self.problems = ReadProblems(strict=False)
        self.format, self.files, self.reading = self._begin(self.problems)
        self.classes = options.class_names(self.reading.classes)
        self.checks = LabelChecks(self.classes, self.reading.skeleton.names)

    def _begin(self, problems: ReadProblems) -> tuple[str, SourceFiles, Reading]:
        return open_dataset(self.path, self.options.form or None, problems)

    def images(self, store_file: StoreFile, taken: Callable[[IngestedImage], T], progress: Callable[[int], None] = lambda done: None,
               workers: int = 1) -> Iterator[T]:  # fmt: skip
        """Every image that can be used, as `taken` makes of it, in the dataset's order; what can't be used is noted.

        workers: processes beside this one, to which `keep` and `taken` must be fit to be sent; none for one, and for few images.
        """
        bringer = Ingester(
            self.files, self.reading.read, self.reading.classes, self.classes, self.reading.skeleton.names, self.options, store_file, taken
        )
        splits = self._drawn_splits() if self.options.splits == "drawn" else {}
        batches = _batches((image, splits.get(image.key)) for image in self.reading.listed)
        many = workers > 1 and self.reading.count >= WORTH_PROCESSES
        done = 0
        for batch in _in_processes(bringer, batches, workers) if many else map(bringer.ingest, batches):
            self.checks.add(batch.checks)
            self.problems.noted += batch.problems.noted
            done += batch.count
            progress(done)
            yield from batch.taken

    def findings(self) -> list[Finding]:
        """What looks wrong, the worst kinds first, but for what only decoding shows."""
        return self.checks.findings(self.problems)

    def _drawn_splits(self) -> dict[str, str]:
        """A split for every image, from a pass over all of them: equal files and groups stay together."""
        strata: dict[str, list[str]] = {}
        group_of: dict[str, str] = {}
        same: dict[str, str] = {}
        parent: dict[str, str] = {}

        def root(name: str) -> str:
            while parent.setdefault(name, name) != name:
                name = parent[name]
            return name

        _, files, reading = self._begin(ReadProblems(strict=False))
        for entry in reading.entries:
            named = Counter(entry.labels(reading.classes))
            strata.setdefault(min(named, key=lambda name: (-named[name], name), default=""), []).append(entry.key)
            try:
                digest = hashlib.sha256(files.read(entry.key)).hexdigest()
            except DatasetError:
                continue
            first, group = same.setdefault(digest, entry.key), self.options.group_of(entry)
            if group:
                parent[root(entry.key)] = root(group_of.setdefault(group, entry.key))
            parent[root(entry.key)] = root(first)
        return draw_splits(dict(sorted(strata.items())), {key: root(key) for key in list(parent)}, self.options.shares, self.options.seed)


def _batches(images: Iterator[tuple[ListedImage, str | None]]) -> Iterator[list[tuple[ListedImage, str | None]]]:
    while batch := list(islice(images, BATCH)):
        yield batch


def _in_processes(bringer: Ingester[T], batches: Iterator[list[tuple[ListedImage, str | None]]], workers: int) -> Iterator[IngestedBatch[T]]:
    """The batches in their order, each ingested by one of `workers` processes."""
    with processes(workers, _start_ingesting, (bringer,)) as pool:
        waiting: deque[Future[IngestedBatch[T]]] = deque()
        try:
            for batch in batches:
                waiting.append(pool.submit(_ingest, batch))
                if len(waiting) > AHEAD * workers:
                    yield waiting.popleft().result()
            while waiting:
                yield waiting.popleft().result()
        except BrokenProcessPool:
            raise DatasetError("a process that ingests images was killed; there may be too little memory") from None
        finally:
            pool.shutdown(wait=False, cancel_futures=True)


#: What a process beside the first brings images in with.
_ingester: Any = None


def _start_ingesting(bringer: Ingester[Any]) -> None:
    global _ingester
    _ingester = bringer


def _ingest(images: list[tuple[ListedImage, str | None]]) -> IngestedBatch[Any]:
    found: IngestedBatch[Any] = _ingester.ingest(images)
    return found


def preview_dataset(path: Path, form: str = "") -> dict[str, Any]:
    """What a dataset seems to be, as JSON-able values, from its first images; nothing is kept.

    `exact`: whether all images were read; `fields`: text and number fields of its images, which may name
    groups; `turned`: how many have an EXIF orientation; `example`: one image with its objects.
    """
    problems = ReadProblems(strict=False)
    form, files, reading = open_dataset(path, form or None, problems)
    splits, classes, fields, turned_count, read = Counter[str](), Counter[str](), Counter[str](), 0, 0
    example: Entry | None = None
    for entry in islice(reading.entries, LOOKED_THROUGH):
        read += 1
        splits[entry.split] += 1
        classes.update(entry.labels(reading.classes))
        fields.update(name for name, value in entry.extra.items() if isinstance(value, (str, int)))
        if example is None or len(example.objects) < min(len(entry.objects), 3):
            example = entry
        if read <= 200:
            facts = read_header(files.read(entry.key), entry.key)
            turned_count += facts is not None and facts.orientation != 1
    if example is None:
        raise DatasetError(problems.noted[0][1] if problems.noted else f"{path}: no images in it")
    return {
        "format": form,
        "images": reading.count,
        "exact": read < LOOKED_THROUGH,
        "splits": {split: splits[split] for split in in_order(splits)},
        "classes": [{"name": name, "labels": classes[name]} for name in reading.classes],
        "keypoints": list(reading.skeleton.names),
        "label_map": list(reading.map_classes) if example.label_map else [],
        "fields": sorted(fields),
        "turned": turned_count,
        "problems": [message for _, message in problems.noted[:5]],
        "problem_count": len(problems.noted),
        "example": {
            "key": example.key, "width": example.size.width, "height": example.size.height,
            "objects": objects_to_json(example.objects, reading.classes),
        },
    }  # fmt: skip
