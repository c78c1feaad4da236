"""Handing large arrays from one process to another without copying them through a pipe.

Arrays go into one file in memory, the rest travels as usual; the receiver maps the file and lets it go at once, so the memory
is free when the arrays are.
"""

from __future__ import annotations

import mmap
import os
import pickle
import tempfile
from pathlib import Path
from typing import Any, NamedTuple

#: Where files are kept in memory, on Linux; else the usual folder for temporary ones.
IN_MEMORY = "/dev/shm"
#: What is smaller altogether travels as usual, bytes.
SMALL = 1 << 16
#: Arrays begin at multiples of so many bytes.
ALIGNED = 64


class Parcel(NamedTuple):
    """An object on its way: its pickled form without its arrays, the file they are in ("" for none), and where each begins and ends."""

    head: bytes
    file: str
    places: list[tuple[int, int]]


def memory_folder() -> str | None:
    """A folder for files in memory, None for the usual one."""
    return IN_MEMORY if os.access(IN_MEMORY, os.W_OK) else None


def packed(thing: Any, folder: str) -> Parcel:
    """Ready to be sent; its arrays in a new file in `folder`, or within where that is full."""
    buffers: list[pickle.PickleBuffer] = []
    head = pickle.dumps(thing, 5, buffer_callback=buffers.append)
    raws = [buffer.raw() for buffer in buffers]
    if sum(raw.nbytes for raw in raws) < SMALL:
        return Parcel(pickle.dumps(thing, 5), "", [])
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
        return Parcel(pickle.dumps(thing, 5), "", [])
    return Parcel(head, path, places)


def unpacked(parcel: Parcel) -> Any:
    """What was packed; its arrays may be written to. The file is gone."""
    if not parcel.file:
        return pickle.loads(parcel.head)
    with open(parcel.file, "r+b") as file:
        shared = memoryview(mmap.mmap(file.fileno(), 0))
    Path(parcel.file).unlink(missing_ok=True)
    return pickle.loads(parcel.head, buffers=[shared[begin:end] for begin, end in parcel.places])
