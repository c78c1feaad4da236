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
from varlen.datasets.findings.label_checks import LabelLook
from varlen.datasets.formats import begin
from varlen.datasets.formats.base import Listed, Reading
from varlen.datasets.image_files import facts_of
from varlen.datasets.import_options import Choices
from varlen.datasets.ingest import Batch, Bringer, Brought, Keep
from varlen.datasets.sources import SourceFiles
from varlen.datasets.splits import draw_splits, in_order
from varlen.errors import DatasetError, Trouble
from varlen.executors import processes
from varlen.shapes.objects_json import objects_to_json

#: How many images are read to say what was recognised.
LOOKED_THROUGH = 2000

#: Images that are brought in together.
BATCH = 25
#: Batches begun before their turn, for each process: some wait while those before them are stored.
AHEAD = 8
#: Fewer images are brought in before other processes would have begun.
WORTH_PROCESSES = 1000

T = TypeVar("T")


class Intake:
    """A dataset that is being brought in, as chosen. After all images were taken, `findings` says what looks wrong."""

    def __init__(self, path: Path, choices: Choices) -> None:
        """Raises `DatasetError` when it is no dataset, or the choices don't fit it."""
        self.path, self.choices = path, choices
        self.trouble = Trouble(strict=False)
        self.format, self.files, self.reading = self._begin(self.trouble)
        self.classes = choices.class_names(self.reading.classes)
        self.look = LabelLook(self.classes, self.reading.skeleton.names)

    def _begin(self, trouble: Trouble) -> tuple[str, SourceFiles, Reading]:
        return begin(self.path, self.choices.form or None, trouble)

    def images(self, keep: Keep, taken: Callable[[Brought], T], progress: Callable[[int], None] = lambda done: None,
               workers: int = 1) -> Iterator[T]:  # fmt: skip
        """Every image that can be used, as `taken` makes of it, in the dataset's order; what can't be used is noted.

        workers: processes beside this one, to which `keep` and `taken` must be fit to be sent; none for one, and for few images.
        """
        bringer = Bringer(self.files, self.reading.read, self.reading.classes, self.classes, self.reading.skeleton.names, self.choices, keep, taken)
        splits = self._drawn_splits() if self.choices.splits == "drawn" else {}
        batches = _batches((image, splits.get(image.key)) for image in self.reading.listed)
        many = workers > 1 and self.reading.count >= WORTH_PROCESSES
        done = 0
        for batch in _in_processes(bringer, batches, workers) if many else map(bringer.bring, batches):
            self.look.add(batch.look)
            self.trouble.noted += batch.trouble.noted
            done += batch.count
            progress(done)
            yield from batch.taken

    def findings(self) -> list[Finding]:
        """What looks wrong, the worst kinds first, but for what only decoding shows."""
        return self.look.findings(self.trouble)

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

        _, files, reading = self._begin(Trouble(strict=False))
        for entry in reading.entries:
            named = Counter(entry.labels(reading.classes))
            strata.setdefault(min(named, key=lambda name: (-named[name], name), default=""), []).append(entry.key)
            try:
                digest = hashlib.sha256(files.read(entry.key)).hexdigest()
            except DatasetError:
                continue
            first, group = same.setdefault(digest, entry.key), self.choices.group_of(entry)
            if group:
                parent[root(entry.key)] = root(group_of.setdefault(group, entry.key))
            parent[root(entry.key)] = root(first)
        return draw_splits(dict(sorted(strata.items())), {key: root(key) for key in list(parent)}, self.choices.shares, self.choices.seed)


def _batches(images: Iterator[tuple[Listed, str | None]]) -> Iterator[list[tuple[Listed, str | None]]]:
    while batch := list(islice(images, BATCH)):
        yield batch


def _in_processes(bringer: Bringer[T], batches: Iterator[list[tuple[Listed, str | None]]], workers: int) -> Iterator[Batch[T]]:
    """The batches in their order, each brought in by one of `workers` processes."""
    with processes(workers, _take_over, (bringer,)) as pool:
        waiting: deque[Future[Batch[T]]] = deque()
        try:
            for batch in batches:
                waiting.append(pool.submit(_bring, batch))
                if len(waiting) > AHEAD * workers:
                    yield waiting.popleft().result()
            while waiting:
                yield waiting.popleft().result()
        except BrokenProcessPool:
            raise DatasetError("a process that brings images in was killed; there may be too little memory") from None
        finally:
            pool.shutdown(wait=False, cancel_futures=True)


#: What a process beside the first brings images in with.
_bringer: Any = None


def _take_over(bringer: Bringer[Any]) -> None:
    global _bringer
    _bringer = bringer


def _bring(images: list[tuple[Listed, str | None]]) -> Batch[Any]:
    found: Batch[Any] = _bringer.bring(images)
    return found


def recognise(path: Path, form: str = "") -> dict[str, Any]:
    """What a dataset seems to be, as JSON-able values, from its first images; nothing is kept.

    `exact`: whether all images were read; `fields`: text and number fields of its images, which may name
    groups; `turned`: how many have an EXIF orientation; `example`: one image with its objects.
    """
    trouble = Trouble(strict=False)
    form, files, reading = begin(path, form or None, trouble)
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
            facts = facts_of(files.read(entry.key), entry.key)
            turned_count += facts is not None and facts.orientation != 1
    if example is None:
        raise DatasetError(trouble.noted[0][1] if trouble.noted else f"{path}: no images in it")
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
        "problems": [message for _, message in trouble.noted[:5]],
        "problem_count": len(trouble.noted),
        "example": {
            "key": example.key, "width": example.size.width, "height": example.size.height,
            "objects": objects_to_json(example.objects, reading.classes),
        },
    }  # fmt: skip
