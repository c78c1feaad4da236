"""Files and folders that are there whole or not at all."""

from __future__ import annotations

import errno
import hashlib
import itertools
import os
from pathlib import Path

from varlen.errors import EditionError

#: What a full disk is called.
FULL = (errno.ENOSPC, errno.EDQUOT)
#: Numbers for files on their way, so that threads of one process never share one.
_parts = itertools.count()


def file_digest(path: Path) -> str:
    """SHA-256 of a file, in hex."""
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()


def part_of(path: Path) -> Path:
    """Where a file is written that is to become `path`: beside it, hidden, and this writer's alone."""
    return path.with_name(f".{path.name}.{os.getpid()}-{next(_parts)}.part")


def write_whole(path: Path, data: bytes, lasting: bool = True) -> None:
    """Write a file under a temporary name and move it into place, so that a reader finds all of it or none.

    Processes and threads may write the same file at once; one of them wins. Missing folders are made.
    lasting: wait until the file, and its name in the folder, are on the disk; not needed for what can be made again.
    Raises `OSError`, with nothing left behind.
    """
    part = part_of(path)
    try:
        stream = part.open("xb")
    except FileNotFoundError:
        part.parent.mkdir(parents=True, exist_ok=True)
        stream = part.open("xb")
    try:
        with stream:
            stream.write(data)
            if lasting:
                stream.flush()
                os.fsync(stream.fileno())
        part.replace(path)
    except BaseException:
        part.unlink(missing_ok=True)
        raise
    if lasting:
        sync_folder(path.parent)


def write_if_room(path: Path, data: bytes) -> None:
    """Keep what can be made again, likewise whole; on a full disk it is not kept, and will be made again. Raises other `OSError`s."""
    try:
        write_whole(path, data, lasting=False)
    except OSError as error:
        if error.errno not in FULL:
            raise


def sync_folder(folder: Path) -> None:
    """Wait until the names in a folder are on the disk: a file that is synced but whose name is not may be gone after a power cut."""
    opened = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(opened)
    finally:
        os.close(opened)


def claim(out: Path) -> Path:
    """The hidden sibling folder to work in until `out` is complete.

    Raises `EditionError` for an `out` that holds anything or a place that can't be written to.
    """
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
