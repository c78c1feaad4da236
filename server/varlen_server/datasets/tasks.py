"""After an import every picture is decoded once, to find damage and lookalikes and to count levels."""

from __future__ import annotations

import logging
import multiprocessing
import os
import shutil
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ProcessPoolExecutor
from itertools import islice
from pathlib import Path

import numpy as np
from django.conf import settings
from django.db import OperationalError, transaction
from procrastinate import RetryStrategy
from procrastinate.contrib.django import app
from procrastinate.contrib.django.models import ProcrastinateJob
from varlen.atomic_files import FULL
from varlen.datasets.edits import Edit
from varlen.datasets.findings import by_severity
from varlen.datasets.findings.checks import ImageChecks, ScannedImage, scan_file
from varlen.datasets.findings.kinds import EXAMPLES, Finding
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.summary import mean_and_deviation
from varlen.errors import VarlenError

from varlen_server.content_store import path_of
from varlen_server.datasets.edits import apply_edits
from varlen_server.datasets.models import Dataset, DatasetImport
from varlen_server.datasets.services import discard_import, import_dataset
from varlen_server.job_progress import Watch
from varlen_server.people.services import note

#: From so many pictures on, starting processes pays.
MANY = 400
AT_ONCE = 64


def scan_pixels(dataset: Dataset, progress: Callable[[int], None] = lambda done: None) -> None:
    """Add what decoding shows to a dataset's findings and statistics; damaged images are left out by an edit."""
    rows = list(dataset.images.filter(left_out=False).values_list("key", "split", "sha256"))
    checks = ImageChecks()
    jobs = [(str(path_of(Path(settings.PICTURES), digest)), key) for key, _, digest in rows]
    for done, ((key, split, digest), scanned) in enumerate(zip(rows, _scanned(jobs), strict=True), 1):
        checks.add(key, split, digest, scanned)
        if done % AT_ONCE == 0:
            progress(done)
    found = checks.findings()
    chosen = "train" if "train" in checks.levels else None
    levels = sum((each for split, each in checks.levels.items() if chosen in (None, split)), np.zeros((3, 256), np.int64))
    with transaction.atomic():
        row = Dataset.objects.select_for_update().get(pk=dataset.pk)
        kinds = {finding.kind for finding in found}
        earlier = [Finding(**each) for each in row.findings if each["kind"] not in kinds or each["kind"] == "damaged-file"]
        row.findings = [finding.to_json() for finding in by_severity(_joined([*earlier, *found]))]
        if checks.levels:
            mean, deviation = mean_and_deviation(levels)
            row.statistics = {"mean": mean, "std": deviation, "levels": levels.reshape(3, 64, 4).sum(axis=2).tolist(),
                              "range": [[int(each.nonzero()[0][0]), int(each.nonzero()[0][-1])] for each in levels],
                              "split": chosen or "all"}  # fmt: skip
        row.examined, row.examining = len(rows), False
        row.save(update_fields=["findings", "statistics", "examined", "examining"])
    damaged = [Edit("leave-out", image) for finding in found if finding.kind == "damaged-file" for image, _ in finding.places]
    if damaged and len(damaged) < len(rows):
        apply_edits(Dataset.objects.get(pk=dataset.pk), damaged, "damaged-file")


def _joined(findings: Iterable[Finding]) -> list[Finding]:
    """One finding a kind."""
    kinds: dict[str, Finding] = {}
    for finding in findings:
        known = kinds.setdefault(finding.kind, finding)
        if known is not finding:
            known.count += finding.count
            known.examples = [*known.examples, *finding.examples][:EXAMPLES]
            known.places = [*known.places, *finding.places]
    return list(kinds.values())


def _scanned(jobs: list[tuple[str, str]]) -> Iterator[ScannedImage]:
    """The outcome for each picture, in order; in several processes when there are many."""
    if len(jobs) < MANY:
        yield from map(scan_file, jobs)
        return
    workers = os.cpu_count() or 1
    with ProcessPoolExecutor(workers, multiprocessing.get_context("spawn")) as pool:
        waiting = iter(jobs)
        while some := list(islice(waiting, AT_ONCE * workers)):
            yield from pool.map(scan_file, some, chunksize=8)


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
