"""One process at a time, by a lock of the system's that ends with the process."""

from __future__ import annotations

import fcntl
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


@contextmanager
def alone(path: Path, otherwise: str, patience_s: float = 0.0) -> Iterator[None]:
    """Hold a lock file. Ends the program with one line where another process still holds it after `patience_s`."""
    path.parent.mkdir(parents=True, exist_ok=True)
    deadline = time.monotonic() + patience_s
    with path.open("a+") as lock:
        while True:
            try:
                fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                if time.monotonic() >= deadline:
                    sys.exit(otherwise)
                time.sleep(0.05)
        yield
