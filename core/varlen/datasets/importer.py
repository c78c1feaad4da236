"""Bring a dataset in: its images in batches, in this process or in several; and what it seems to be, before that.

Nothing is decoded unless a file seems cut off, and nothing but counts and digests is kept, so
memory hardly grows with the number of images.
"""

from __future__ import annotations

from collections import Counter, deque
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Future
from concurrent.futures.process import BrokenProcessPool
from dataclasses import replace
from itertools import islice
from pathlib import Path
from typing import Any, TypeVar

from varlen.datasets.entry import Entry
from varlen.datasets.findings import Finding
from varlen.datasets.findings.checks import LabelChecks
from varlen.datasets.formats import Recognised, open_dataset
from varlen.datasets.formats.base import ListedImage
from varlen.datasets.formats.drafts import draft_of
from varlen.datasets.formats.tree import Tree
from varlen.datasets.image_files import ImageHeader, read_header
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.ingest import IngestedBatch, IngestedImage, Ingester, StoreFile
from varlen.datasets.recipes import Recipe
from varlen.datasets.skeleton import mirror_pairs
from varlen.datasets.sources import Files, open_files
from varlen.datasets.splits import drawn_splits, in_order
from varlen.errors import DatasetError, NeedsAnswer, ReadProblems
from varlen.executors import processes
from varlen.shapes.objects_json import objects_to_json

#: How many images are read to say what was recognised.
LOOKED_THROUGH = 2000
#: Problems that are named before the import begins.
MOST_PROBLEMS = 200

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
        found = self._begin(self.problems)
        self.format, self.files, self.reading, self.why = found.form, found.files, found.reading, found.why
        self.options = options = replace(options.for_classes(self.reading.classes), reading=found.recipe)
        self.classes = options.class_names(self.reading.classes)
        self.mirror_classes = options.class_pairs((*self.classes, *self.reading.map_classes))
        self.drawn = options.splits == "drawn" or self.reading.drawn
        self.checks = LabelChecks(self.classes, self.reading.skeleton)

    def _begin(self, problems: ReadProblems) -> Recognised:
        return open_dataset(self.path, self.options, problems)

    def images(self, store_file: StoreFile, taken: Callable[[IngestedImage], T], progress: Callable[[int], None] = lambda done: None,
               workers: int = 1, known_splits: Mapping[str, str] | None = None) -> Iterator[T]:  # fmt: skip
        """Every image that can be used, as `taken` makes of it, in the dataset's order; what can't be used is noted.

        known_splits: where splits are drawn, those that pictures had before, by their SHA-256.
        workers: processes beside this one, to which `keep` and `taken` must be fit to be sent; none for one, and for few images.
        """
        bringer = Ingester(
            self.files,
            self.reading.read,
            self.reading.classes,
            self.classes,
            self.reading.skeleton,
            self.options,
            store_file,
            taken,
            self.reading.map_levels,
            self.reading.map_classes,
        )
        splits = self._drawn_splits(known_splits) if self.options.splits == "drawn" or (known_splits and self.reading.drawn) else {}
        batches = _batches((image, splits.get(image.key)) for image in self.reading.listed)
        many = workers > 1 and self.reading.count >= WORTH_PROCESSES
        done = 0
        for batch in _in_processes(bringer, batches, workers) if many else map(bringer.ingest, batches):
            self.checks.add(batch.checks)
            self.problems.noted += batch.problems.noted
            self.problems.remarked += batch.problems.remarked
            done += batch.count
            progress(done)
            yield from batch.taken

    def findings(self) -> list[Finding]:
        """What looks wrong, the worst kinds first, but for what only decoding shows."""
        return self.checks.findings(self.problems)

    def _drawn_splits(self, known: Mapping[str, str] | None) -> dict[str, str]:
        """A split for every image, from a pass over all of them."""
        found = self._begin(ReadProblems(strict=False))
        return drawn_splits(found.reading.entries, found.reading.classes, found.files, self.options, known)


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


def preview_dataset(path: Path, form: str = "", levels: str = "", ignore: Sequence[str] = (), recipe: Recipe | None = None) -> dict[str, Any]:
    """What a dataset seems to be, as JSON-able values, from its first images; nothing is kept.

    `exact`: whether all images were read; `why`: files that spoke for the format; `asks`: options that have to be given before
    it can be read; `remarks`: what is read in a way that is to be said; `fields`: text and number fields of its images, which
    may name groups; `files`: how many files are what, and what is to be asked about those that nothing read; `draft`: a recipe for
    those, as far as it can be told; `reading`: the recipe that reads the dataset; `turned`: how many have an EXIF
    orientation; `example`: one image with its objects.
    """
    problems = ReadProblems(strict=False)
    asks: list[str] = []
    options = ImportOptions(form, levels=levels, ignore=tuple(ignore), reading=recipe)
    try:
        found = open_dataset(path, options, problems, ask=False)
    except NeedsAnswer as question:
        asks.append(question.option)
        problems = ReadProblems(strict=False)
        found = open_dataset(path, replace(options, mask_class="object"), problems, ask=False)
    if found.account.question:
        asks.append("ignore")
    asks += found.doubts
    draft = _draft(path, found) if found.account.asked else None
    files, reading = found.files, found.reading
    splits, classes, fields, turned_count, read = Counter[str](), Counter[str](), Counter[str](), 0, 0
    unclear = 0
    example: Entry | None = None
    for entry in islice(reading.entries, LOOKED_THROUGH):
        read += 1
        splits[entry.split] += 1
        classes.update(entry.labels(reading.classes))
        fields.update(name for name, value in entry.extra.items() if isinstance(value, (str, int)))
        if read <= 200:
            facts = _header_of(files, entry.key, problems)
            turned_count += facts is not None and facts.orientation != 1
            if facts is not None and facts.unclear:
                unclear += 1
                continue
        if example is None or len(example.objects) < min(len(entry.objects), 3):
            example = entry
    if unclear and "levels" not in asks:
        asks.append("levels")
    if example is None and not unclear:
        raise DatasetError(problems.noted[0][1] if problems.noted else f"{path}: no images in it")
    remarks = Counter(message for _, message in problems.remarked)
    return {
        "format": form or found.form,
        "levels": levels,
        "why": found.why,
        "asks": asks,
        "images": reading.count,
        "exact": read < LOOKED_THROUGH,
        "splits": {split: splits[split] for split in in_order(splits)},
        "splits_drawn": reading.drawn,
        "classes": [{"name": name, "labels": classes[name]} for name in reading.classes],
        "keypoints": list(reading.skeleton.names),
        "mirror_pairs": mirror_pairs(reading.skeleton),
        "unpaired": reading.skeleton.unpaired(),
        "label_map": list(reading.map_classes) if example is not None and example.label_map else [],
        "columns": reading.columns,
        "fields": sorted(fields),
        "turned": turned_count,
        "unclear": unclear,
        "remarks": list(remarks)[:20],
        "problems": [message for _, message in problems.noted[:MOST_PROBLEMS]],
        "problem_count": len(problems.noted),
        "doubts": [{"option": option, "said": doubt.said, "answers": dict(doubt.answers)} for option, doubt in found.doubts.items()],
        "files": found.account.to_json(),
        "draft": draft,
        "reading": None if found.recipe is None else found.recipe.to_json(),
        "example": None if example is None else {
            "key": example.key, "width": example.size.width, "height": example.size.height,
            "objects": objects_to_json(example.objects, reading.classes),
        },
    }  # fmt: skip


def _draft(path: Path, found: Recognised) -> dict[str, Any] | None:
    """How a recipe for the files that nothing reads begins."""
    try:
        return draft_of(Tree(open_files(path)), found.account.asked).to_json()
    except DatasetError:
        return None


def _header_of(files: Files, key: str, problems: ReadProblems) -> ImageHeader | None:
    try:
        return read_header(files.read(key), key)
    except DatasetError as error:
        problems.note("damaged-file", str(error))
        return None
