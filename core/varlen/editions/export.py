"""Writing an edition: every variant of every image, with a record of how each was made.

The work goes to a hidden sibling folder in chunks of a few images; each finished chunk is
recorded by one file written whole, so an interrupted export continues from the chunks it has.
When all are there, rows and label files are put together in a fixed order and the folder
gets its name. So the result does not depend on workers, order or interruptions.
"""

from __future__ import annotations

import json
import shutil
import time
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from functools import cached_property, partial
from importlib.metadata import version
from pathlib import Path
from typing import Any, BinaryIO, cast

import orjson

from varlen._version import __version__
from varlen.atomic_files import FULL, claimed, file_digest, write_whole
from varlen.datasets.convert import Loss, check_losses
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import WRITERS
from varlen.editions.allotment import Allotment
from varlen.editions.chunks import CHUNK, ENTRIES, JOB, ChunkWriter, LeftOut, WrittenRow, chunk_file, read_chunk, write_chunk, write_job
from varlen.editions.export_spec import ExportSpec
from varlen.editions.readme import edition_readme
from varlen.editions.record import CARD, RECORD, ROWS, SOURCES, EditionHead, EditionRecord, LeftOutRecord, OutputDigest, Statistics, record_digest
from varlen.editions.remote_chunks import make_chunk, packed_job, unpacked
from varlen.editions.source import write_source_labels
from varlen.editions.to_store import export_to_store
from varlen.errors import EditionError
from varlen.executors import ChunkWork, run_here, run_in_processes, run_on_cluster
from varlen.pipeline.document import Pipeline
from varlen.render.normalization import pipeline_figures
from varlen.steps.own_step import all_importable, check_importable
from varlen.stores import url_of

#: Variants of an image, its original among them, for which a chunk has `CHUNK` images.
USUAL = 4
#: So many chunks are enough for any number of workers; but no chunk has more images than this, so that little is lost with one.
MOST_CHUNKS, MOST_AT_ONCE = 4000, 256


def export(
    dataset: Dataset,
    pipeline: Pipeline,
    out: Path,
    spec: ExportSpec,
    *,
    workers: int = 1,
    scheduler: str = "",
    resume: bool = False,
    leave_out: bool = False,
    accept_loss: Collection[str] = (),
    known_as: Mapping[str, str] | None = None,
    made_by: str = "",
    progress: Callable[[int, int], None] = lambda done, total: None,
    stop: Callable[[], bool] = lambda: False,
) -> EditionRecord:
    """Write an edition to `out`, a folder or the URL of one in an object store, and return its record.

    scheduler: address of a Dask scheduler that does the work instead of `workers` processes;
    leave_out: skip what can't be made, and record it; accept_loss: kinds of labels that the format may lose altogether (see
    `losses.KINDS`), or "all"; known_as: goes into the record as it is; made_by: the version that the record and its
    digests name, where an older edition is made again; progress: called with images
    dealt with and their final number; stop: asked now and then, raises `Cancelled` when true.
    Raises `EditionError`, and `LossRefused` before anything is written; after an image that can't be made, a full disk, `Cancelled` or a
    crash, `resume=True` continues with what is written.
    """
    spec = spec.for_dataset(dataset)
    lost = check_losses(dataset, spec.format, accept_loss)
    if url := url_of(out):
        again = partial(export, dataset, pipeline, spec=spec, workers=workers, scheduler=scheduler, resume=True, leave_out=leave_out,
                        accept_loss=accept_loss, known_as=known_as, made_by=made_by, progress=progress, stop=stop)  # fmt: skip
        return export_to_store(url, again, resume, WRITERS[spec.format].packs)
    head = _head(dataset, pipeline, spec, lost, made_by or __version__)
    chunks = _Chunks(Allotment(dataset, spec, pipeline.seed))
    total = chunks.total
    if not total:
        raise EditionError("nothing to write: no image is in the chosen splits, or neither variants nor originals are wanted")
    with claimed(out) as part:
        try:
            _prepare(part, head, resume)
            _run(dataset, pipeline, spec, part, chunks, workers, scheduler, leave_out, lambda done: progress(done, total), stop)
            record = _assemble(part, dataset, pipeline, spec, head, len(chunks), known_as)
            if out.exists():
                out.rmdir()
            part.rename(out)
            return record
        except OSError as error:
            if error.errno in FULL:
                raise EditionError(_disk_full(part, chunks)) from None
            raise EditionError(f"{error.filename or out}: {error.strerror or error}") from None


def _head(dataset: Dataset, pipeline: Pipeline, spec: ExportSpec, lost: list[Loss], made_by: str) -> EditionHead:
    head: dict[str, Any] = {
        "varlen_edition": 1,
        "varlen": made_by,
        "dataset": dataset.name,
        "dataset_path": dataset.origin,
        "dataset_digest": dataset.digest(),
        "pipeline": pipeline.to_json(),
        "pipeline_digest": pipeline.digest,
        "seed": pipeline.seed,
        **spec.to_json(),
    }
    if lost:
        head["lost"] = lost
    if dataset.read_as:
        head["read_as"] = dataset.read_as
    if dataset.splits_drawn:
        head["splits_drawn"] = True
    return cast(EditionHead, head)


def _prepare(part: Path, head: EditionHead, resume: bool) -> None:
    """Start afresh, or keep the chunks of the same order that was interrupted."""
    job = part / "job.json"
    if resume and job.exists():
        if orjson.loads(job.read_bytes()) != orjson.loads(orjson.dumps(head)):
            raise EditionError(f"{part}: was begun with another dataset, pipeline or order; export without --resume to start afresh")
        for torn in part.rglob("*.part"):
            torn.unlink(missing_ok=True)
        return
    shutil.rmtree(part, ignore_errors=True)
    (part / "chunks").mkdir(parents=True)
    write_whole(job, orjson.dumps(head))


class _Chunks:
    """Images by split, a few at a time, in the edition's order: about as many variants a chunk whatever the order, more where there are very many."""

    def __init__(self, allotment: Allotment) -> None:
        self._allotment = allotment
        self._splits = list(allotment.keys.items())
        images = sum(len(keys) for _, keys in self._splits)
        each = max(1, round(self.total / max(1, images)))
        self._size = min(max(CHUNK * USUAL // each, -(-images // MOST_CHUNKS), 1), MOST_AT_ONCE)
        self._counts = [-(-len(keys) // self._size) for _, keys in self._splits]

    def __len__(self) -> int:
        return sum(self._counts)

    def __getitem__(self, number: int) -> list[tuple[str, range]]:
        """The images of a chunk, each with the numbers of its variants."""
        split, keys, start = self._place(number)
        return [(keys[place], self._allotment.variants(split, place)) for place in range(start, min(start + self._size, len(keys)))]

    def size(self, number: int) -> int:
        """How many variants a chunk holds; its images are of one split."""
        split, keys, start = self._place(number)
        return self._allotment.count(split, start, min(start + self._size, len(keys)))

    @cached_property
    def counts(self) -> dict[str, int]:
        """How many variants of each split all hold."""
        return self._allotment.counts()

    @property
    def total(self) -> int:
        """How many variants all hold."""
        return sum(self.counts.values())

    def _place(self, number: int) -> tuple[str, Sequence[str], int]:
        for (split, keys), count in zip(self._splits, self._counts, strict=True):
            if number < count:
                return split, keys, number * self._size
            number -= count
        raise IndexError(number)


def _run(dataset: Dataset, pipeline: Pipeline, spec: ExportSpec, part: Path, chunks: _Chunks, workers: int, scheduler: str,
         leave_out: bool, progress: Callable[[int], None], stop: Callable[[], bool]) -> None:  # fmt: skip
    missing = [number for number in range(len(chunks)) if not chunk_file(part, number).exists()]
    done = chunks.total - sum(map(chunks.size, missing))
    progress(done)

    def count(images: int) -> None:
        nonlocal done
        done += images
        progress(done)

    if not missing:
        return
    if workers <= 1 and not scheduler:
        writer = ChunkWriter(dataset, pipeline, spec, part, chunks.counts)
        run_here(ChunkWork(missing, writer.write, lambda number: (number, chunks[number], leave_out), count, stop))
        return
    write_job(part, dataset, pipeline, spec, chunks.counts, elsewhere=bool(scheduler))
    folder, begun = str(part.absolute()), time.time_ns()
    if scheduler:
        check_importable(pipeline.all_steps(), "a cluster's worker")
        job = packed_job(part, begun)
        work = ChunkWork(missing, make_chunk, lambda number: (number, chunks[number], leave_out), count, stop, partial(unpacked, part))
        run_on_cluster(work, scheduler, job)
    else:
        work = ChunkWork(missing, write_chunk, lambda number: (folder, begun, number, chunks[number], leave_out), count, stop)
        run_in_processes(work, workers, forked=not all_importable(pipeline.all_steps()))


def _disk_full(part: Path, chunks: _Chunks) -> str:
    """What is written, and how much room the rest will need by its measure."""
    written = sum(path.stat().st_size for path in part.rglob("*") if path.is_file())
    done = sum(chunks.size(number) for number in range(len(chunks)) if chunk_file(part, number).exists())
    # Rows and label files are put together from the chunks' own, which stay until then.
    together = sum(path.stat().st_size for path in (part / "chunks").glob("*"))
    more = written / done * (chunks.total - done) + together if done else 0.0
    need = f"about {_megabytes(more)} more are needed" if done else "how much is needed is not known yet"
    free = shutil.disk_usage(part).free
    return f"{part.parent}: the disk is full after {done} of {chunks.total} images; {need}, {_megabytes(free)} are free. Make room and resume."


def _megabytes(size: float) -> str:
    return f"{size / 1e6:,.1f} MB"


def _records(part: Path, count: int) -> Iterator[WrittenRow | LeftOut]:
    for number in range(count):
        with chunk_file(part, number).open("rb") as lines:
            yield from read_chunk(lines)


def _assemble(part: Path, dataset: Dataset, pipeline: Pipeline, spec: ExportSpec, head: EditionHead, chunks: int,
              known_as: Mapping[str, str] | None) -> EditionRecord:  # fmt: skip
    """Rows, label files and the edition's record, in an order that depends on nothing."""
    splits = spec.written(dataset.splits())
    statistics = Statistics(dataset, spec)
    digest = OutputDigest(head)
    form = WRITERS[head["format"]]
    # Arrays hold what the pipeline's normalize steps make of levels.
    figures = None if form.coded else pipeline_figures(pipeline, dataset)
    writer = form(dataset) if figures is None else form(dataset, figures)
    left_out: list[LeftOutRecord] = []

    def counted(out: BinaryIO) -> Iterator[WrittenRow]:
        """Every record once: into the list of rows, the digest and the counts, then on to the label files."""
        number = 0
        for record in _records(part, chunks):
            if isinstance(record, LeftOut):
                left_out.append({"source": record.image, "variant": record.variant, "reason": record.reason})
                continue
            out.write(b'{"row":%d,' % number + record.row[1:] + b"\n")
            number += 1
            digest.add_image(record.file, record.pixel_digest, record.label_files)
            statistics.add(record)
            yield record

    files = {}
    with (part / ROWS).open("wb") as out:
        written = writer.write_label_files(part, splits, counted(out))
    for path in written:
        files[path] = file_digest(part / path)
        digest.add_labels(path, files[path])
    files[ROWS] = file_digest(part / ROWS)
    versions = {"varlen": __version__, **{name: version(name) for name in ("numpy", "numba", "pillow", "isal", "shapely")}}
    reduced = writer.losses()
    made = {"output_digest": str(digest), "counts": statistics.counts(), "statistics": statistics.to_json(), "files": files, "versions": versions}
    record = cast(EditionRecord, {**head, **made})
    if outside := pipeline.outside_steps():
        record["outside_steps"] = outside
    if writer.packs:
        record["packed"] = True
    if figures is not None:
        record["normalized"] = {"mean": figures.mean, "deviation": figures.deviation}
    if left_out:
        record["left_out"] = left_out
    if reduced:
        record["reduced"] = reduced
    if write_source_labels(part / SOURCES, dataset, splits):
        record["source_labels"] = file_digest(part / SOURCES)
    if known_as:
        record["known_as"] = dict(known_as)
    text = edition_readme(record, dataset).encode()
    write_whole(part / CARD, text)
    files[CARD] = file_digest(part / CARD)
    shutil.rmtree(part / "chunks")
    for name in ("job.json", JOB, ENTRIES):
        (part / name).unlink(missing_ok=True)
    record["record_digest"] = record_digest(record)
    write_whole(part / RECORD, json.dumps(record, indent=1, ensure_ascii=False).encode() + b"\n")
    return record
