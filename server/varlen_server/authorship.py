"""Who is asking, and so who made a thing and who last changed it."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from typing import Any

from django.db import models


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


class Authored(models.Model):
    """Names rather than links: they stay when a person has left. "" where nobody signs in."""

    made_by = models.CharField(max_length=150, default="", blank=True, editable=False)
    changed_by = models.CharField(max_length=150, default="", blank=True, editable=False)

    class Meta:
        abstract = True

    def save(self, *args: Any, **kwargs: Any) -> None:
        visit = current()
        if visit is not None:
            if self._state.adding and not self.made_by:
                self.made_by = visit.who
            self.changed_by = visit.who
            if kwargs.get("update_fields") is not None:
                kwargs["update_fields"] = {*kwargs["update_fields"], "changed_by"}
        super().save(*args, **kwargs)


def by_whom() -> dict[str, str]:
    """What `update` sets besides, in answer to a request."""
    visit = current()
    return {} if visit is None else {"changed_by": visit.who}
