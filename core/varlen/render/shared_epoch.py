"""Handing large arrays from one process to another without copying them through a pipe.

Arrays go into one file in memory, the rest travels as usual; the receiver maps the file and lets it go at once, so the memory
is free when the arrays are.
"""

from __future__ import annotations

import mmap
import os
import pickle
import secrets
import socket
import tempfile
import weakref
from pathlib import Path
from typing import Any, NamedTuple

from varlen.errors import VarlenError

#: Where files are kept in memory, on Linux; else the usual folder for temporary ones.
IN_MEMORY = "/dev/shm"
#: What is smaller altogether travels as usual, bytes.
SMALL = 1 << 16
#: Arrays begin at multiples of so many bytes.
ALIGNED = 64


class ChunkResult(NamedTuple):
    """An object on its way: its pickled form without its arrays, the file they are in ("" for none), and where each begins and ends."""

    head: bytes
    file: str
    places: list[tuple[int, int]]


def memory_folder() -> str | None:
    """A folder for files in memory, None for the usual one."""
    return IN_MEMORY if os.access(IN_MEMORY, os.W_OK) else None


def packed(thing: Any, folder: str) -> ChunkResult:
    """Ready to be sent; its arrays in a new file in `folder`, or within where that is full."""
    buffers: list[pickle.PickleBuffer] = []
    head = pickle.dumps(thing, 5, buffer_callback=buffers.append)
    raws = [buffer.raw() for buffer in buffers]
    if sum(raw.nbytes for raw in raws) < SMALL:
        return ChunkResult(pickle.dumps(thing, 5), "", [])
    places, end = [], 0
    for raw in raws:
        begin = -(-end // ALIGNED) * ALIGNED
        places.append((begin, end := begin + raw.nbytes))
    path = ""
    try:
        with tempfile.NamedTemporaryFile(dir=folder, delete=False) as file:
            path = file.name
            for (begin, _), raw in zip(places, raws, strict=True):
                file.seek(begin)
                file.write(raw)
    except OSError:  # full
        Path(path).unlink(missing_ok=True)
        return ChunkResult(pickle.dumps(thing, 5), "", [])
    return ChunkResult(head, path, places)


def unpacked(parcel: ChunkResult) -> Any:
    """What was packed; its arrays may be written to. The file is gone."""
    if not parcel.file:
        return pickle.loads(parcel.head)
    with open(parcel.file, "r+b") as file:
        shared = memoryview(mmap.mmap(file.fileno(), 0))
    Path(parcel.file).unlink(missing_ok=True)
    return pickle.loads(parcel.head, buffers=[shared[begin:end] for begin, end in parcel.places])


#: The number, and after it what tells this memory from any other.
NUMBER, MARK = 8, 16


class SharedEpoch:
    """A number from 0 that all copies of it on this machine share, also those in other processes."""

    def __init__(self, value: int) -> None:
        content = value.to_bytes(NUMBER, "little") + (mark := secrets.token_bytes(MARK))
        if hasattr(os, "memfd_create"):  # memory that goes with its last user, whatever becomes of the process
            descriptor = os.memfd_create("varlen-epoch")
            self._path = f"/proc/{os.getpid()}/fd/{descriptor}"
            weakref.finalize(self, os.close, descriptor)
        else:
            descriptor, self._path = tempfile.mkstemp(prefix="varlen-epoch-")
            weakref.finalize(self, _remove, descriptor, self._path, os.getpid())
        os.write(descriptor, content)
        self._mark = mark
        self._shared = mmap.mmap(descriptor, NUMBER + MARK)

    @property
    def value(self) -> int:
        """The epoch now."""
        return int.from_bytes(self._shared[:NUMBER], "little")

    @value.setter
    def value(self, value: int) -> None:
        self._shared[:NUMBER] = value.to_bytes(NUMBER, "little")

    def __getstate__(self) -> dict[str, Any]:
        return {"path": self._path, "mark": self._mark, "host": socket.gethostname(), "value": self.value}

    def __setstate__(self, state: dict[str, Any]) -> None:
        """Join the others. Whoever comes when the first has gone begins anew; on another machine nothing could be heard of a new epoch."""
        if state["host"] != socket.gethostname():
            raise VarlenError("samples: made on another machine, whose epochs don't reach this one; make the stream here with varlen.stream(…)")
        shared = _joined(state["path"])
        if shared is None or shared[NUMBER:] != state["mark"]:
            self.__init__(state["value"])  # type: ignore[misc]
        else:
            self._path, self._mark, self._shared = state["path"], state["mark"], shared


def _joined(path: str) -> mmap.mmap | None:
    """The memory of that name; None where it is gone, or another has the name now."""
    try:
        with open(path, "r+b") as file:
            return mmap.mmap(file.fileno(), NUMBER + MARK)
    except (OSError, ValueError):
        return None


def _remove(descriptor: int, path: str, owner: int) -> None:
    os.close(descriptor)
    if os.getpid() == owner:  # of copies in forked processes none is the owner
        Path(path).unlink(missing_ok=True)
