"""The epoch of a training stream, in memory that all its workers see.

A loader sends its source to workers once and keeps them alive; told of a new epoch, the source in the main process must reach
them there. The number lies in a few bytes that every copy maps: forked copies share them, pickled ones open them by name. Where
that can't work, on another machine, it is refused, for a silent repetition of epoch 0 would go unnoticed.
"""

from __future__ import annotations

import mmap
import os
import secrets
import socket
import tempfile
import weakref
from pathlib import Path
from typing import Any

from varlen.errors import VarlenError

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
