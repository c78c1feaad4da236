"""Who is asking, for as long as a request is answered: what is made or changed meanwhile bears the name."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Visit:
    """One request. who: a person's name, "" for whoever uses this machine; address: where from; request: its id in the logs."""

    who: str
    address: str = ""
    request: str = ""


_current: ContextVar[Visit | None] = ContextVar("visit", default=None)


def current() -> Visit | None:
    """The request that is being answered, None outside of any."""
    return _current.get()


@contextmanager
def visiting(visit: Visit) -> Iterator[None]:
    """While this lasts, things are made in this visit's name."""
    token = _current.set(visit)
    try:
        yield
    finally:
        _current.reset(token)
