"""Priorities within one web process: pictures somebody waits for go before counts."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager

_changed = threading.Condition()
_waiting = 0
#: However much is waited for, counting resumes after this many seconds.
LONGEST = 2.0


@contextmanager
def foreground() -> Iterator[None]:
    """While this lasts somebody waits for pictures; nothing else is done in between."""
    global _waiting
    with _changed:
        _waiting += 1
    try:
        yield
    finally:
        with _changed:
            _waiting -= 1
            _changed.notify_all()


def yield_to_foreground() -> None:
    """Called now and then by what is counted in the background: waits while somebody waits for pictures."""
    with _changed:
        _changed.wait_for(lambda: _waiting == 0, LONGEST)
