"""Making editions in the background. A job that was killed is taken up again where it was."""

from __future__ import annotations

import os
import shutil
import time

from django.utils import timezone
from procrastinate import RetryStrategy
from procrastinate.contrib.django import app
from varlen.errors import VarlenError
from varlen.export import Cancelled, Order, export
from varlen.pipeline import from_json
from varlen.record import RECORD, read_record

from varlen_server.datasets.library import load
from varlen_server.editions.models import Edition


@app.task(name="make_edition", retry=RetryStrategy(max_attempts=5, wait=2))
def make_edition(edition_id: int) -> None:
    """Write the edition; progress and outcome go to its record."""
    edition = Edition.objects.select_related("dataset").get(pk=edition_id)
    if edition.state not in (Edition.State.WAITING, Edition.State.WRITING):
        return
    Edition.objects.filter(pk=edition.pk).update(state=Edition.State.WRITING, started=edition.started or timezone.now())
    watch = _Watch(edition)
    try:
        if (edition.folder / RECORD).exists():
            record = read_record(edition.folder)  # the worker died between the last file and this line
            return _finish(edition, Edition.State.DONE, done=edition.total, output_digest=record["output_digest"], counts=record["counts"])
        dataset = load(edition.dataset_id, edition.dataset.digest)
        record = export(dataset, from_json(edition.document), edition.folder, Order(**edition.order), workers=os.cpu_count() or 1,
                        resume=True, progress=watch.progress, stop=watch.stop)  # fmt: skip
    except Cancelled:
        _discard(edition)
        _finish(edition, Edition.State.CANCELLED, message="cancelled")
    except VarlenError as error:
        _finish(edition, Edition.State.FAILED, message=str(error))
    else:
        _finish(edition, Edition.State.DONE, done=edition.total, output_digest=record["output_digest"], counts=record["counts"])


def _finish(edition: Edition, state: Edition.State, **values: object) -> None:
    Edition.objects.filter(pk=edition.pk).update(state=state, finished=timezone.now(), **values)


def _discard(edition: Edition) -> None:
    part = edition.folder.with_name(f".{edition.folder.name}.varlen-part")
    shutil.rmtree(part, ignore_errors=True)


class _Watch:
    """Writes progress to the record and reads whether to stop, a few times a second at most."""

    def __init__(self, edition: Edition) -> None:
        self.edition = edition
        self.last = 0.0
        self.asked = False

    def progress(self, done: int, total: int) -> None:
        now = time.monotonic()
        if now - self.last > 0.3 or done == total:
            self.last = now
            Edition.objects.filter(pk=self.edition.pk).update(done=done, total=total)
            self.asked = Edition.objects.filter(pk=self.edition.pk, stop_asked=True).exists()

    def stop(self) -> bool:
        return self.asked
