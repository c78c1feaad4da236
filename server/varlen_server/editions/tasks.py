"""Making editions in the background. A job that was killed is taken up again where it was."""

from __future__ import annotations

import os
import shutil

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from django.conf import settings
from django.utils import timezone
from procrastinate import RetryStrategy
from procrastinate.contrib.django import app
from varlen.datasets.dataset import Dataset as CoreDataset
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.record import RECORD, image_count, read_record
from varlen.editions.signature import new_key, private_key, sign, signer_of
from varlen.editions.to_store import copy_to_store
from varlen.editions.verify import verify
from varlen.errors import EditionError, VarlenError
from varlen.executors import Cancelled
from varlen.pipeline.document import from_json

from varlen_server.datasets.services import load
from varlen_server.editions.models import Edition
from varlen_server.job_progress import Watch


@app.task(name="make_edition", retry=RetryStrategy(max_attempts=5, wait=2), lock="editions")
def make_edition(edition_id: int) -> None:
    """Write the edition; progress and outcome go to its record."""
    edition = Edition.objects.select_related("dataset").filter(pk=edition_id).first()
    if edition is None or edition.state not in (Edition.State.WAITING, Edition.State.WRITING):
        return
    Edition.objects.filter(pk=edition.pk).update(state=Edition.State.WRITING, started=timezone.now(), message="")
    progress = _Progress(edition)
    try:
        if (edition.folder / RECORD).exists():
            return finish(edition)  # the worker died between the last file and this line
        export(
            source_of(edition),
            from_json(edition.document),
            edition.folder,
            ExportSpec(**edition.order),
            workers=os.cpu_count() or 1,
            scheduler=settings.SCHEDULER,
            resume=True,
            leave_out=edition.leave_out,
            accept_loss=edition.accept_loss,
            known_as=known_as(edition),
            progress=progress,
            stop=progress.watch.stop,
        )
    except Cancelled:
        shutil.rmtree(edition.part, ignore_errors=True)
        _end(edition, Edition.State.CANCELLED, message="cancelled")
    except VarlenError as error:
        _end(edition, Edition.State.STOPPED, message=str(error))
    except (OSError, MemoryError) as error:
        _end(edition, Edition.State.STOPPED, message=f"{getattr(error, 'strerror', None) or type(error).__name__}: make room and resume")
    else:
        finish(edition)


def known_as(edition: Edition) -> dict[str, str]:
    """What only the database knows of an edition, to stand in its folder too."""
    source = edition.dataset.source if edition.dataset is not None else ""
    return {"name": edition.name, "made_by": edition.made_by, "dataset_source": source}


def source_of(edition: Edition) -> CoreDataset:
    """The dataset as it was when the edition was ordered. Raises `EditionError` when it is not that any more."""
    if edition.dataset is None:
        raise EditionError(f"the dataset {edition.dataset_name!r} is not here any more")
    if edition.dataset_digest and edition.dataset.digest != edition.dataset_digest:
        raise EditionError(f"{edition.dataset.name} was changed since this edition was ordered: take its edits back, or make a new edition")
    return load(edition.dataset.pk, edition.dataset.digest)


def finish(edition: Edition) -> None:
    """Take over what the folder's record says; sign it where this Varlen signs."""
    record = read_record(edition.folder)
    signed_by = signer_of(edition.folder)
    if settings.SIGN_EDITIONS and record.get("record_digest") and not signed_by:
        signed_by = sign(edition.folder, signing_key())["public_key"]
    images = image_count(record)
    _end(edition, Edition.State.DONE, done=images, total=images, output_digest=record["output_digest"],
         record_digest=record.get("record_digest", ""), signed_by=signed_by, counts=record["counts"],
         lost=[*record.get("lost", []), *record.get("reduced", [])], statistics=record.get("statistics", {}),
         left_out=record.get("left_out", []), message="")  # fmt: skip


def signing_key() -> Ed25519PrivateKey:
    """The key in this Varlen's state folder, made when it is first needed; its public part lies beside it."""
    path = settings.STATE / "signing-key"
    if not path.exists():
        new_key(path)
    return private_key(path)


def _end(edition: Edition, state: Edition.State, **values: object) -> None:
    Edition.objects.filter(pk=edition.pk).update(state=state, finished=timezone.now(), **values)


@app.task(name="check_edition", lock="editions-check")
def check_edition(edition_id: int) -> None:
    """Compare every file of an edition with its record."""
    edition = Edition.objects.filter(pk=edition_id, state=Edition.State.DONE).first()
    if edition is None:
        return
    rows = Edition.objects.filter(pk=edition.pk)
    watch, done = Watch(rows), 0

    def progress() -> None:
        nonlocal done
        done += 1
        watch.note(check_state={"state": "checking", "done": done})

    try:
        problems = [f"{each['file']}: {each['problem']}" for each in verify(edition.folder, progress, edition.record_digest)]
    except VarlenError as error:
        problems = [str(error)]
    found = {"state": "checked", "done": done, "problems": problems[:200], "count": len(problems), "at": timezone.now().isoformat()}
    rows.update(check_state=found)


@app.task(name="copy_edition", retry=RetryStrategy(max_attempts=5, wait=2), lock="editions-copy")
def copy_edition(edition_id: int, url: str) -> None:
    """Send an edition to an object store; one that was interrupted continues with the files that are missing."""
    edition = Edition.objects.filter(pk=edition_id, state=Edition.State.DONE).first()
    if edition is None:
        return
    rows = Edition.objects.filter(pk=edition.pk)
    watch = Watch(rows)

    def progress(done: int, total: int) -> None:
        watch.note(copy_state={"state": "copying", "url": url, "done": done, "total": total})

    def on_progress(found: dict[str, object]) -> None:
        rows.update(copy_state=found)

    try:
        copy_to_store(edition.folder, url, progress)
    except (VarlenError, OSError) as error:
        on_progress({"state": "failed", "url": url, "message": str(error)})
    else:
        on_progress({"state": "copied", "url": url, "at": timezone.now().isoformat()})


class _Progress:
    """Says on the edition how many images are written, and with how many it began."""

    def __init__(self, edition: Edition) -> None:
        self.watch = Watch(Edition.objects.filter(pk=edition.pk))
        self.begun = False

    def __call__(self, done: int, total: int) -> None:
        first = {} if self.begun else {"begun_with": done, "started": timezone.now()}
        self.begun |= self.watch.note(at_once=done == total or not self.begun, done=done, total=total, **first)
