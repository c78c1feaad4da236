"""Files and folders that are there whole or not at all."""

from __future__ import annotations

import errno
import fcntl
import hashlib
import itertools
import os
import socket
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from varlen.errors import EditionError

#: What a full disk is called.
FULL = (errno.ENOSPC, errno.EDQUOT)
#: So long a claim is waited for whose owner has ended, seconds.
ORPHANS_S = 10.0
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


@contextmanager
def claimed(out: Path) -> Iterator[Path]:
    """The hidden sibling folder to work in until `out` is complete; no other process gets it meanwhile.

    The claim is a lock of the system's on a file beside it, which goes with the process that holds it, however that ends.
    Raises `EditionError` for an `out` that holds anything, that another process is writing, or a place that can't be written to.
    """
    _check_new(out)
    part = out.absolute().with_name(f".{out.absolute().name}.varlen-part")
    lock = part.with_suffix(".varlen-lock")
    try:
        part.parent.mkdir(parents=True, exist_ok=True)
        held = _lock(lock)
        last = time.monotonic() + ORPHANS_S
        while held is None and _owner_is_gone(lock) and time.monotonic() < last:
            time.sleep(0.05)  # its worker processes hold the claim until they notice
            held = _lock(lock)
    except OSError as error:
        raise EditionError(f"{out}: can't be written ({error.strerror})") from None
    if held is None:
        raise EditionError(f"{out}: is being written by another process ({_owner(lock)}); wait for it, or choose another folder")
    try:
        _check_new(out)  # the process that held the claim may have finished just now
        yield part
    finally:
        lock.unlink(missing_ok=True)
        os.close(held)


def _check_new(out: Path) -> None:
    if out.exists() and (not out.is_dir() or any(out.iterdir())):
        raise EditionError(f"{out}: exists and is not empty; an edition needs a new folder")


def _lock(path: Path) -> int | None:
    """A descriptor that holds the lock; None where another process does."""
    while True:
        opened = os.open(path, os.O_RDWR | os.O_CREAT, 0o666)
        try:
            fcntl.flock(opened, fcntl.LOCK_EX | fcntl.LOCK_NB)
            if _same_file(opened, path):
                os.ftruncate(opened, 0)
                os.write(opened, f"process {os.getpid()} on {socket.gethostname()}".encode())
                return opened
        except BlockingIOError:
            os.close(opened)
            return None
        os.close(opened)  # the file was removed by its last owner between opening and locking it


def _same_file(opened: int, path: Path) -> bool:
    try:
        return os.path.samestat(os.fstat(opened), path.stat())
    except FileNotFoundError:
        return False


def _owner_is_gone(path: Path) -> bool:
    """Whether the process that took the claim has ended, where that was on this machine."""
    words = _owner(path).split()
    if len(words) != 4 or words[3] != socket.gethostname():
        return False
    try:
        os.kill(int(words[1]), 0)
    except (ProcessLookupError, ValueError):
        return True
    except PermissionError:  # it is there, and another user's
        pass
    return False


def _owner(path: Path) -> str:
    try:
        return path.read_text("utf-8") or "which has only begun"
    except OSError:
        return "which has just ended"
