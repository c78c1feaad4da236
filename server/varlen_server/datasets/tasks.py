"""Bringing datasets in and examining their pictures, in the background."""

from __future__ import annotations

import logging
import shutil
from pathlib import Path

from django.db import OperationalError
from procrastinate import RetryStrategy
from procrastinate.contrib.django import app
from procrastinate.contrib.django.models import ProcrastinateJob
from varlen.atomic_files import FULL
from varlen.datasets.import_options import ImportOptions
from varlen.errors import VarlenError

from varlen_server.datasets.models import Dataset, DatasetImport
from varlen_server.datasets.pixel_scan import scan_pixels
from varlen_server.datasets.services import discard_import, import_dataset
from varlen_server.people.log import note
from varlen_server.watch import Watch

State = DatasetImport.State
log = logging.getLogger(__name__)


class Stopped(Exception):
    """Somebody cancelled it."""


@app.task(name="bring_in", retry=RetryStrategy(max_attempts=5, wait=2), lock="bring_in")
def import_dataset_task(import_id: int = 0, intake_id: int = 0) -> None:
    """Read a dataset with the options chosen; progress and outcome go to its `DatasetImport`.

    intake_id: what jobs that version 0.1 left behind call the number.
    """
    mine = DatasetImport.objects.get(pk=import_id or intake_id)
    if mine.state not in (State.WAITING, State.READING):
        return
    if mine.dataset is not None:
        if mine.dataset.ready:  # the worker died between the last image and this line
            return _finish(mine, State.DONE, mine.dataset)
        discard_import(mine.dataset)
    rows = DatasetImport.objects.filter(pk=mine.pk)
    rows.update(state=State.READING, dataset=None, done=0)
    watch = Watch(rows)

    def progress(done: int) -> None:
        watch.note(done=done)
        if watch.stop():
            raise Stopped

    def begun(dataset: Dataset) -> None:
        rows.update(dataset=dataset)

    try:
        source = "" if mine.folder else mine.path
        dataset = import_dataset(Path(mine.path), mine.name, ImportOptions.from_json(mine.choices), source, progress, begun, mine.made_by)
    except Stopped:
        _finish(mine, State.CANCELLED, None, "cancelled")
    except VarlenError as error:
        _finish(mine, State.FAILED, None, str(error))
    except OperationalError:
        raise  # the database is away: tried again, and at last found by `fail_lost_imports`
    except OSError as error:
        full = " Make room and import it again." if error.errno in FULL else ""
        _finish(mine, State.FAILED, None, f"{error.filename or 'store'}: {error.strerror or error}.{full}")
    except Exception as error:  # whatever a file brought about that nothing foresaw: said, and nothing stays
        log.exception("import %s", mine.pk)
        _finish(mine, State.FAILED, None, f"it can't be read ({type(error).__name__}: {str(error)[:200]})")
    else:
        _finish(mine, State.DONE, dataset)
        note("made", f"dataset {dataset.pk}: {dataset}", who=mine.made_by)


def fail_lost_imports() -> int:
    """Imports under way that no job has any more, as after a full disk of the database: they end as failed. Returns how many."""
    live = ProcrastinateJob.objects.filter(task_name="bring_in", status__in=["todo", "doing"])
    known = {job.args.get("import_id") or job.args.get("intake_id") for job in live}
    lost = DatasetImport.objects.filter(state__in=[State.WAITING, State.READING]).exclude(pk__in=known)
    for each in lost:
        if each.dataset is not None and not each.dataset.ready:
            discard_import(each.dataset)
        _finish(each, State.FAILED, None, "its job was lost; import it again")
    return len(lost)


def _finish(dataset_import: DatasetImport, state: State, dataset: Dataset | None, message: str = "") -> None:
    if dataset is not None:
        Dataset.objects.filter(pk=dataset.pk).update(examining=True)
        examine_dataset.defer(dataset_id=dataset.pk)
    DatasetImport.objects.filter(pk=dataset_import.pk).update(state=state, dataset=dataset, message=message, done=dataset_import.total)
    clear(dataset_import)


def clear(dataset_import: DatasetImport) -> None:
    """Remove the uploaded files of an import; a folder of somebody's own stays."""
    if dataset_import.folder:
        shutil.rmtree(dataset_import.folder, ignore_errors=True)


@app.task(name="examine", retry=RetryStrategy(max_attempts=5, wait=2), lock="examine")
def examine_dataset(dataset_id: int) -> None:
    """Decode every picture of a dataset once."""
    rows = Dataset.objects.filter(pk=dataset_id)
    if not rows.update(examining=True):
        return

    def progress(done: int) -> None:
        rows.update(examined=done)

    try:
        scan_pixels(Dataset.objects.get(pk=dataset_id), progress)
    finally:
        rows.update(examining=False)
