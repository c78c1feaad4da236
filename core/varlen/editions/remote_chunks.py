"""Chunks made on machines of a cluster that may not see the export's folder: then their files come back with the answer.

The job is sent to each machine once. A machine that sees the folder writes there; one that does not makes a chunk in a folder of its own. What it
needs from elsewhere are the source pictures alone: at a URL, or at a path that it sees as well.
"""

from __future__ import annotations

import io
import os
import pickle
import platform
import shutil
import tempfile
import weakref
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

from varlen.atomic_files import write_whole
from varlen.datasets.entry import StoredEntries
from varlen.editions.chunks import ENTRIES, JOB, ChunkWriter, chunk_file, write_chunk
from varlen.errors import EditionError
from varlen.stores import url_of

#: Set for a worker that is not to look for folders of the machine that asks, as if it were far away.
APART = "VARLEN_APART"


@dataclass(frozen=True, slots=True)
class Job:
    """An export as every machine of a cluster gets it once. sign: a file in `part` that no other folder has; name: tells jobs apart."""

    part: str
    sign: str
    begun: int
    job: bytes
    entries: bytes


@dataclass(frozen=True, slots=True)
class ChunkResult:
    """A chunk made far away: its files by their paths in the export's folder, and how many variants it holds."""

    files: dict[str, bytes]
    count: int


def packed_job(part: Path, begun: int) -> Job:
    """The job in an export's folder, fit to be sent."""
    # Among the chunks' records, which go when the edition is complete.
    sign = f"chunks/here-{os.urandom(8).hex()}"
    write_whole(part / sign, b"", lasting=False)
    entries = part / ENTRIES
    return Job(str(part.absolute()), sign, begun, (part / JOB).read_bytes(), entries.read_bytes() if entries.exists() else b"")


def make_chunk(job: Job, number: int, images: list[tuple[str, range]], leave_out: bool) -> int | ChunkResult:
    """Make one chunk on a machine of a cluster: written into the folder where that is seen, else packed into a parcel."""
    if _sees(Path(job.part) / job.sign):
        return write_chunk(job.part, job.begun, number, images, leave_out)
    writer = _writer(job)
    with tempfile.TemporaryDirectory(prefix="varlen-chunk-") as place:
        writer.moved_to(Path(place))
        count = writer.write(number, images, leave_out)
        files = {path.relative_to(place).as_posix(): path.read_bytes() for path in Path(place).rglob("*") if path.is_file()}
    return ChunkResult(files, count)


def _sees(path: Path | str) -> bool:
    return not os.environ.get(APART) and Path(path).exists()


def unpacked(part: Path, number: int, made: int | ChunkResult) -> int:
    """Put what came back into the export's folder, the chunk's own record last; how many variants it holds."""
    if isinstance(made, int):
        return made
    record = chunk_file(part, number).relative_to(part).as_posix()
    for name in sorted(made.files, key=lambda name: name == record):
        write_whole(part / name, made.files[name], lasting=name == record)
    return made.count


@lru_cache(maxsize=1)
def _writer(job: Job) -> ChunkWriter:
    place = Path(tempfile.mkdtemp(prefix="varlen-job-"))
    (place / ENTRIES).write_bytes(job.entries)
    dataset, pipeline, spec, counts = _Unpickler(io.BytesIO(job.job), place / ENTRIES).load()
    if not (url_of(dataset.origin) or _sees(dataset.origin)):
        unseen = f"a worker of the cluster on {platform.node()} sees neither the export's folder nor {dataset.origin}"
        raise EditionError(f"{unseen}: read the dataset from a URL")
    writer = ChunkWriter(dataset, pipeline, spec, place, counts)
    weakref.finalize(writer, shutil.rmtree, place, ignore_errors=True)
    return writer


class _Unpickler(pickle.Unpickler):
    """Reads a job whose images lie in a file that is somewhere else here. entries: that file."""

    def __init__(self, stream: io.BytesIO, entries: Path) -> None:
        super().__init__(stream)
        self.entries = entries

    def find_class(self, module: str, name: str) -> Any:
        found, here = super().find_class(module, name), self.entries
        if found is not StoredEntries:
            return found
        return lambda path: StoredEntries(here)
