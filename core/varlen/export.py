"""Writing an edition: every variant of every image, with a record of how each was made.

The work goes to a hidden sibling folder in chunks of a few images; each finished chunk is
recorded by one file written whole, so an interrupted export goes on from the chunks it has.
When all are there, rows and label files are put together in a fixed order and the folder
gets its name. So the result does not depend on workers, order or interruptions.
"""

from __future__ import annotations

import hashlib
import json
import multiprocessing
import shutil
from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import FIRST_COMPLETED, Executor, ProcessPoolExecutor, wait
from dataclasses import asdict, dataclass
from importlib.metadata import version
from itertools import islice
from pathlib import Path, PurePosixPath
from typing import Any, BinaryIO

import numpy as np
import orjson

from varlen import __version__
from varlen.codec import SUFFIX, ImageType, encode
from varlen.dataset import Dataset
from varlen.errors import EditionError
from varlen.formats import coco
from varlen.pipeline import Pipeline
from varlen.pipeline import from_json as pipeline_from_json
from varlen.plan import Plan
from varlen.record import RECORD, ROWS, OutputDigest, file_digest, write_whole
from varlen.render import Outcome, Renderer

CHUNK = 6
SORTED = orjson.OPT_SORT_KEYS


@dataclass(frozen=True, slots=True)
class Order:
    """What to write: variants of each training image, originals or not, and how images are coded."""

    variants: int = 3
    originals: bool = True
    format: str = "coco"
    image: ImageType = "jpeg"
    quality: int = 90

    def __post_init__(self) -> None:
        if not 0 <= self.variants <= 1000:
            raise EditionError(f"variants: {self.variants} is outside 0 … 1000")
        if self.format != coco.NAME:
            raise EditionError(f"format: there is no {self.format!r} to write; known is {coco.NAME}")
        if self.image not in SUFFIX:
            raise EditionError(f"image: {self.image!r} is not one of {', '.join(SUFFIX)}")
        if not 1 <= self.quality <= 100:
            raise EditionError(f"quality: {self.quality} is outside 1 … 100")

    def variants_for(self, split: str) -> list[int]:
        """Which variants an image of a split gets; 0 is the original."""
        if split != "train":
            return [0]
        return ([0] if self.originals else []) + list(range(1, self.variants + 1))

    def counts(self, images: dict[str, int]) -> dict[str, int]:
        """Exactly how many images come out per split."""
        return {split: count * len(self.variants_for(split)) for split, count in images.items()}


class Cancelled(Exception):
    """The export was told to stop; what is done stays for resuming."""


def export(
    dataset: Dataset,
    pipeline: Pipeline,
    out: Path,
    order: Order,
    *,
    workers: int = 1,
    resume: bool = False,
    progress: Callable[[int, int], None] = lambda done, total: None,
    stop: Callable[[], bool] = lambda: False,
) -> dict[str, Any]:
    """Write an edition to `out` and return its record.

    progress: called with images written and their final number; stop: asked now and then,
    raises `Cancelled` when true. Raises `EditionError`, `DatasetError` or `RenderError` with
    nothing left behind; after `Cancelled` or a crash, `resume=True` goes on.
    """
    part = _claim(out)
    head = _head(dataset, pipeline, order)
    try:
        _prepare(part, head, resume)
        for split in dataset.splits():
            (part / "images" / split).mkdir(parents=True, exist_ok=True)
        chunks = _chunks(dataset, order)
        total = sum(len(order.variants_for(dataset.entries[key].split)) for chunk in chunks for key in chunk)
        _run_chunks(dataset, pipeline, order, part, chunks, workers, lambda done: progress(done, total), stop)
        record = _assemble(part, dataset, head, len(chunks))
        if out.exists():
            out.rmdir()
        part.rename(out)
        return record
    except OSError as error:
        shutil.rmtree(part, ignore_errors=True)
        raise EditionError(f"{error.filename or out}: {error.strerror or error}") from None
    except (Cancelled, KeyboardInterrupt):
        raise
    except Exception:
        shutil.rmtree(part, ignore_errors=True)
        raise


def _claim(out: Path) -> Path:
    """The hidden sibling to work in. Refuses a folder that holds anything."""
    if out.exists() and (not out.is_dir() or any(out.iterdir())):
        raise EditionError(f"{out}: exists and is not empty; an edition needs a new folder")
    part = out.absolute().with_name(f".{out.absolute().name}.varlen-part")
    try:
        part.parent.mkdir(parents=True, exist_ok=True)
        probe = part.with_suffix(".probe")
        probe.touch()
        probe.unlink()
    except OSError as error:
        raise EditionError(f"{out}: can't be written ({error.strerror})") from None
    return part


def _head(dataset: Dataset, pipeline: Pipeline, order: Order) -> dict[str, Any]:
    return {
        "varlen_edition": 1,
        "varlen": __version__,
        "dataset": dataset.name,
        "dataset_digest": dataset.digest(),
        "pipeline": pipeline.to_json(),
        "pipeline_digest": pipeline.digest,
        "seed": pipeline.seed,
        **asdict(order),
    }


def _prepare(part: Path, head: dict[str, Any], resume: bool) -> None:
    """Start afresh, or keep the chunks of the same order that was interrupted."""
    job = part / "job.json"
    if resume and job.exists():
        if orjson.loads(job.read_bytes()) != orjson.loads(orjson.dumps(head)):
            raise EditionError(f"{part}: was begun with another dataset, pipeline or order; export without --resume to start afresh")
        return
    shutil.rmtree(part, ignore_errors=True)
    (part / "chunks").mkdir(parents=True)
    write_whole(job, orjson.dumps(head))


def _chunks(dataset: Dataset, order: Order) -> list[list[str]]:
    chunks = []
    for split in dataset.splits():
        keys = [key for key, entry in dataset.entries.items() if entry.split == split and order.variants_for(split)]
        chunks += [keys[n : n + CHUNK] for n in range(0, len(keys), CHUNK)]
    return chunks


def file_names(dataset: Dataset) -> dict[str, str]:
    """A short name for each image, unique in its split: the path below images/<split>/, flattened."""
    names: dict[str, str] = {}
    taken: Counter[tuple[str, str]] = Counter()
    for key, entry in dataset.entries.items():
        path = PurePosixPath(key)
        parts = [part for part in path.with_suffix("").parts if part not in ("images", entry.split, "val")]
        names[key] = "_".join(parts) or path.stem
        taken[entry.split, names[key].lower()] += 1
    for key, entry in dataset.entries.items():
        if taken[entry.split, names[key].lower()] > 1:
            names[key] += "_" + hashlib.sha256(key.encode("utf-8", "surrogatepass")).hexdigest()[:8]
    return names


class ChunkWriter:
    """Makes and writes the variants of a few images at a time; one in every worker process."""

    def __init__(self, dataset: Dataset, pipeline: Pipeline, order: Order, part: Path) -> None:
        self.dataset, self.order, self.part = dataset, order, part
        self.renderer = Renderer(dataset, pipeline)
        self.names = file_names(dataset)

    def write(self, number: int, keys: list[str]) -> int:
        """Write one chunk's images and its record; returns the number of images.

        All labels first, then all pixels: each kind of work finds its own data in the
        processor's caches.
        """
        planned = [self._planned(key, variant) for key in keys for variant in self._variants(key)]
        records = [self._written(*each) for each in planned]
        write_whole(_chunk_file(self.part, number), b"".join(record.to_bytes() for record in records))
        return len(records)

    def _variants(self, key: str) -> list[int]:
        return self.order.variants_for(self.dataset.entries[key].split)

    def _planned(self, key: str, variant: int) -> tuple[str, int, Plan, Outcome, list[bytes]]:
        plan = self.renderer.plan(key, variant)
        outcome = self.renderer.outcome(key, variant, plan)
        labels = coco.describe_objects(outcome.objects, outcome.size, self.dataset)
        return key, variant, plan, outcome, [orjson.dumps(label, option=SORTED) for label in labels]

    def _written(self, key: str, variant: int, plan: Plan, outcome: Outcome, labels: list[bytes]) -> Record:
        entry = self.dataset.entries[key]
        pixels = self.renderer.complete(plan, outcome)
        file = coco.file_for(entry.split, f"{self.names[key]}_v{variant}{SUFFIX[self.order.image]}")
        data = encode(pixels, self.order.image, self.order.quality)
        (self.part / file).write_bytes(data)
        row = {
            "file": file,
            "split": entry.split,
            "source": key,
            "source_sha256": outcome.trace["source_sha256"],
            "variant": variant,
            "file_sha256": hashlib.sha256(data).hexdigest(),
            "pixel_digest": outcome.trace["pixel_digest"],
            "trace": outcome.trace,
        }
        classes = np.bincount(outcome.objects.classes, minlength=len(self.dataset.classes)).tolist()
        image = orjson.dumps(coco.describe_image(file, outcome.size, entry.extra), option=SORTED)
        return Record(entry.split, file, row["pixel_digest"], classes, orjson.dumps(row, option=SORTED), image, labels)


@dataclass(frozen=True, slots=True)
class Record:
    """One written image on its way from a worker to the edition: what is counted, and lines ready to be put together."""

    split: str
    file: str
    pixel_digest: str
    classes: list[int]
    row: bytes
    image: bytes
    labels: list[bytes]

    def to_bytes(self) -> bytes:
        """A line that says how many labels follow, the row, the image, the labels."""
        head = orjson.dumps([self.split, self.file, self.pixel_digest, self.classes, len(self.labels)])
        return b"\n".join([head, self.row, self.image, *self.labels, b""])

    @staticmethod
    def read(lines: BinaryIO) -> Iterator[Record]:
        """The records of one chunk."""
        for head in lines:
            split, file, digest, classes, count = orjson.loads(head)
            row, image, *labels = [next(lines).rstrip(b"\n") for _ in range(2 + count)]
            yield Record(split, file, digest, classes, row, image, labels)


_writer: ChunkWriter | None = None


def _start_worker(dataset: Dataset, pipeline: dict[str, Any], order: Order, part: Path) -> None:
    global _writer
    _writer = ChunkWriter(dataset, pipeline_from_json(pipeline), order, part)


def _write_chunk(number: int, keys: list[str]) -> int:
    assert _writer is not None
    return _writer.write(number, keys)


def _chunk_file(part: Path, number: int) -> Path:
    return part / "chunks" / f"{number:06d}.jsonl"


def _run_chunks(dataset: Dataset, pipeline: Pipeline, order: Order, part: Path, chunks: list[list[str]], workers: int,
                progress: Callable[[int], None], stop: Callable[[], bool]) -> None:  # fmt: skip
    missing = [number for number in range(len(chunks)) if not _chunk_file(part, number).exists()]
    done = sum(len(order.variants_for(dataset.entries[key].split)) for n in set(range(len(chunks))) - set(missing) for key in chunks[n])
    progress(done)
    if workers <= 1:
        writer = ChunkWriter(dataset, pipeline, order, part)
        for number in missing:
            if stop():
                raise Cancelled
            done += writer.write(number, chunks[number])
            progress(done)
        return
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(["varlen.render"])
    with ProcessPoolExecutor(workers, context, _start_worker, (dataset, pipeline.to_json(), order, part)) as pool:
        _feed(pool, chunks, missing, workers, done, progress, stop)


def _feed(pool: Executor, chunks: list[list[str]], missing: list[int], workers: int, done: int,
          progress: Callable[[int], None], stop: Callable[[], bool]) -> None:  # fmt: skip
    """Keep every worker busy with no more than a few chunks waiting."""
    waiting = iter(missing)
    running = {pool.submit(_write_chunk, number, chunks[number]) for number in islice(waiting, 2 * workers)}
    try:
        while running:
            finished, running = wait(running, timeout=0.5, return_when=FIRST_COMPLETED)
            for future in finished:
                done += future.result()
                running |= {pool.submit(_write_chunk, number, chunks[number]) for number in islice(waiting, 1)}
            progress(done)
            if stop():
                raise Cancelled
    except BaseException:
        for future in running:
            future.cancel()
        raise


def _records(part: Path, count: int) -> Iterator[Record]:
    for number in range(count):
        with _chunk_file(part, number).open("rb") as lines:
            yield from Record.read(lines)


def _assemble(part: Path, dataset: Dataset, head: dict[str, Any], chunks: int) -> dict[str, Any]:
    """Rows, label files and the edition's record, in an order that depends on nothing."""
    images = dict.fromkeys(dataset.splits(), 0)
    objects = {split: np.zeros(len(dataset.classes), np.int64) for split in images}
    digest = OutputDigest(head)

    def counted(out: BinaryIO) -> Iterator[Record]:
        """Every record once: into the list of rows, the digest and the counts, then on to the label files."""
        for number, record in enumerate(_records(part, chunks)):
            out.write(b'{"row":%d,' % number + record.row[1:] + b"\n")
            digest.add_image(record.file, record.pixel_digest)
            images[record.split] += 1
            objects[record.split] += record.classes
            yield record

    files = {}
    with (part / ROWS).open("wb") as out:
        written = coco.write_labels(part, dataset, dataset.splits(), counted(out))
    for path in written:
        files[path] = file_digest(part / path)
        digest.add_labels(path, files[path])
    files[ROWS] = file_digest(part / ROWS)
    counts = {
        split: {"images": images[split], "objects": int(found.sum()), "classes": dict(zip(dataset.classes, found.tolist(), strict=True))}
        for split, found in objects.items()
    }
    versions = {"varlen": __version__, **{name: version(name) for name in ("numpy", "numba", "pillow", "shapely")}}
    record = {**head, "output_digest": str(digest), "counts": counts, "files": files, "versions": versions}
    shutil.rmtree(part / "chunks")
    (part / "job.json").unlink()
    write_whole(part / RECORD, json.dumps(record, indent=1, ensure_ascii=False).encode() + b"\n")
    return record
