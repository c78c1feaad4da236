"""The log of who did what: kept in the database, written beside what it tells of."""

from __future__ import annotations

from typing import Any

from django.db.models import Model
from django.db.models.signals import post_delete, post_save

from varlen_server.datasets.models import Dataset, DatasetImport
from varlen_server.editions.models import Edition
from varlen_server.evidence.models import Inquiry
from varlen_server.people.models import LogEntry
from varlen_server.pipelines.models import Pipeline, Revision
from varlen_server.visits import current

#: What is written down of itself, and how it is called.
NAMES: dict[type[Model], str] = {
    Dataset: "dataset", DatasetImport: "import", Pipeline: "pipeline", Revision: "revision", Edition: "edition", Inquiry: "inquiry",
}  # fmt: skip
_LONGEST = 300


def note(did: str, what: str, who: str | None = None) -> None:
    """Write a line into the log. who: where the visit's own name is not meant, as of one who could not sign in."""
    visit = current()
    name = who if who is not None else (visit.who if visit else "")
    LogEntry.objects.create(who=_kept(name, 150), did=did, what=_kept(what, _LONGEST), address=visit.address if visit else "",
                            request=visit.request if visit else "")  # fmt: skip


def _kept(text: str, longest: int) -> str:
    """Text that the database takes: no NUL, not too long."""
    return text.replace("\0", "")[:longest]


def _called(thing: Any) -> str:
    return f"{NAMES[type(thing)]} {thing.pk}: {thing}"


def _saved(sender: type[Model], instance: Any, created: bool, **_: object) -> None:
    # A pipeline is changed by a revision, which is written down by itself; an import is a dataset in the end.
    if current() is None or (sender in (Pipeline, DatasetImport) and not created):
        return
    note("made" if created else "changed", _called(instance))


def _deleted(sender: type[Model], instance: Any, **_: object) -> None:
    # Revisions go with their pipeline.
    if current() is not None and sender is not Revision:
        note("deleted", _called(instance))


def begin() -> None:
    """From now on, what is made, changed and deleted in answer to a request is written down."""
    for model in NAMES:
        post_save.connect(_saved, sender=model, dispatch_uid=f"log-saved-{model.__name__}")
        post_delete.connect(_deleted, sender=model, dispatch_uid=f"log-deleted-{model.__name__}")
