"""While a backup gathers the files of this Varlen, nothing is deleted: what the database's copy names is still there when its turn comes."""

from __future__ import annotations

import fcntl
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


class Busy(Exception):
    """Something else is at it; the message says what."""


#: Beside everything else, so that every process of one Varlen finds the same.
LOCK = "keeping.lock"


@contextmanager
def deleting(state: Path) -> Iterator[None]:
    """Delete files within; any number may at once. Raises `Busy` while a backup is being made."""
    with _locked(state, fcntl.LOCK_SH):
        yield


@contextmanager
def backing_up(state: Path) -> Iterator[None]:
    """Nothing is deleted within. Raises `Busy` while something is, or another backup is made."""
    with _locked(state, fcntl.LOCK_EX):
        yield


@contextmanager
def _locked(state: Path, how: int) -> Iterator[None]:
    state.mkdir(parents=True, exist_ok=True)
    handle = os.open(state / LOCK, os.O_RDWR | os.O_CREAT, 0o600)
    try:
        try:
            fcntl.flock(handle, how | fcntl.LOCK_NB)
        except BlockingIOError:
            raise Busy("A backup is being made, or something is being deleted; try again in a moment.") from None
        yield
    finally:
        os.close(handle)
