"""Matches and probes in the background. A probe that was interrupted continues with the runs that are missing."""

from __future__ import annotations

import os
import shutil

from django.utils import timezone
from procrastinate import RetryStrategy
from procrastinate.contrib.django import app
from varlen.datasets.dataset import Dataset as CoreDataset
from varlen.errors import EvidenceError, VarlenError
from varlen.executors import Cancelled
from varlen.pipeline.document import from_json

from varlen_server.datasets.services import load
from varlen_server.evidence.models import Inquiry
from varlen_server.job_progress import Watch

State = Inquiry.State
#: What a match does, in words, and how much of the whole it is about.
DOING = {"field": ("measuring the field", 0.15), "training": ("measuring training pictures", 0.25), "variants": ("measuring variants", 0.4),
         "suggestion": ("trying ranges", 0.9), "result": ("measuring the result", 0.97)}  # fmt: skip


@app.task(name="carry_out_inquiry", retry=RetryStrategy(max_attempts=5, wait=2), lock="inquiries")
def carry_out(inquiry_id: int) -> None:
    """Do what is asked; progress and answer go to its record."""
    inquiry = Inquiry.objects.select_related("dataset", "field").filter(pk=inquiry_id).first()
    if inquiry is None or inquiry.state not in (State.WAITING, State.RUNNING):
        return
    Inquiry.objects.filter(pk=inquiry.pk).update(state=State.RUNNING, started=timezone.now(), message="", share=0.0)
    progress = _Progress(inquiry)
    try:
        result = _match(inquiry, progress) if inquiry.kind == Inquiry.Kind.MATCH else _probe(inquiry, progress)
    except Cancelled:
        _end(inquiry, State.CANCELLED, message="cancelled")
    except VarlenError as error:
        _end(inquiry, State.STOPPED, message=str(error))
    except (OSError, MemoryError) as error:
        _end(inquiry, State.STOPPED, message=f"{getattr(error, 'strerror', None) or type(error).__name__}: make room and go on")
    else:
        _end(inquiry, State.DONE, result=result, share=1.0, seconds_left=None)
        shutil.rmtree(inquiry.folder, ignore_errors=True)


def _match(inquiry: Inquiry, progress: _Progress) -> dict[str, object]:
    from varlen.evidence.match import match

    if inquiry.field is None:
        raise EvidenceError(f"the field {inquiry.field_name!r} is not here any more")
    given = from_json(inquiry.documents[0]) if inquiry.documents else None

    def on_progress(what: str, done: int) -> None:
        progress.doing, share = DOING[what]
        progress(share, None)

    found = match(_source(inquiry), load(inquiry.field.pk, inquiry.field.digest), given, workers=os.cpu_count() or 1, progress=on_progress,
                  stop=progress.raise_if_stopped)  # fmt: skip
    return found.to_json(values=True)


def _probe(inquiry: Inquiry, progress: _Progress) -> dict[str, object]:
    from varlen.evidence.probe import probe

    progress.doing = "training"
    inquiry.folder.parent.mkdir(parents=True, exist_ok=True)
    found = probe(_source(inquiry), [from_json(each) for each in inquiry.documents], seeds=inquiry.options.get("seeds", 3),
                  minutes=inquiry.options.get("minutes"), out=inquiry.folder, workers=min(os.cpu_count() or 1, 2), progress=progress,
                  stop=progress.watch.stop)  # fmt: skip
    return found.to_json()


def _source(inquiry: Inquiry) -> CoreDataset:
    """The dataset as it was when this was asked. Raises `EvidenceError` when it is not that any more."""
    if inquiry.dataset.digest != inquiry.dataset_digest:
        raise EvidenceError(f"{inquiry.dataset_name} was changed since this was asked: ask again")
    return load(inquiry.dataset.pk, inquiry.dataset.digest)


def _end(inquiry: Inquiry, state: State, **values: object) -> None:
    Inquiry.objects.filter(pk=inquiry.pk).update(state=state, finished=timezone.now(), doing="", **values)


class _Progress:
    """Says on the inquiry what is done and how much of the whole that is."""

    def __init__(self, inquiry: Inquiry) -> None:
        self.watch = Watch(Inquiry.objects.filter(pk=inquiry.pk))
        self.doing = ""

    def __call__(self, share: float, left: float | None) -> None:
        """share: 0 … 1; left: seconds, None where nobody knows."""
        self.watch.note(share=share, seconds_left=left, doing=self.doing)

    def raise_if_stopped(self) -> None:
        """Raises `Cancelled` when somebody asked to stop."""
        if self.watch.stop():
            raise Cancelled
