"""Bringing datasets in and examining their pictures, in the background."""

from __future__ import annotations

import shutil
import time
from pathlib import Path

from procrastinate import RetryStrategy
from procrastinate.contrib.django import app
from varlen.datasets.import_options import ImportOptions
from varlen.errors import VarlenError

from varlen_server.datasets.examine import examine
from varlen_server.datasets.library import bring_in, discard
from varlen_server.datasets.models import Dataset, Intake


class Stopped(Exception):
    """Somebody cancelled it."""


@app.task(name="bring_in", retry=RetryStrategy(max_attempts=5, wait=2), lock="bring_in")
def bring_dataset_in(intake_id: int) -> None:
    """Read a dataset as chosen; progress and outcome go to its `Intake`."""
    intake = Intake.objects.get(pk=intake_id)
    if intake.state not in (Intake.State.WAITING, Intake.State.READING):
        return
    if intake.dataset is not None:
        if intake.dataset.ready:  # the worker died between the last image and this line
            return _finish(intake, Intake.State.DONE, intake.dataset)
        discard(intake.dataset)
    Intake.objects.filter(pk=intake.pk).update(state=Intake.State.READING, dataset=None, done=0)
    last = 0.0

    def progress(done: int) -> None:
        nonlocal last
        if time.monotonic() - last > 0.3:
            last = time.monotonic()
            Intake.objects.filter(pk=intake.pk).update(done=done)
            if Intake.objects.filter(pk=intake.pk, stop_asked=True).exists():
                raise Stopped

    try:
        choices = ImportOptions.from_json(intake.choices)
        dataset = bring_in(Path(intake.path), intake.name, choices, "" if intake.folder else intake.path, progress,
                           lambda begun: Intake.objects.filter(pk=intake.pk).update(dataset=begun) and None)  # fmt: skip
    except Stopped:
        _finish(intake, Intake.State.CANCELLED, None, "cancelled")
    except VarlenError as error:
        _finish(intake, Intake.State.FAILED, None, str(error))
    else:
        _finish(intake, Intake.State.DONE, dataset)


def _finish(intake: Intake, state: Intake.State, dataset: Dataset | None, message: str = "") -> None:
    if dataset is not None:
        Dataset.objects.filter(pk=dataset.pk).update(examining=True)
        examine_dataset.defer(dataset_id=dataset.pk)
    Intake.objects.filter(pk=intake.pk).update(state=state, dataset=dataset, message=message, done=intake.total)
    clear(intake)


def clear(intake: Intake) -> None:
    """Remove the uploaded files of an intake; a folder of somebody's own stays."""
    if intake.folder:
        shutil.rmtree(intake.folder, ignore_errors=True)


@app.task(name="examine", retry=RetryStrategy(max_attempts=5, wait=2), lock="examine")
def examine_dataset(dataset_id: int) -> None:
    """Decode every picture of a dataset once."""
    if not Dataset.objects.filter(pk=dataset_id).update(examining=True):
        return
    try:
        examine(Dataset.objects.get(pk=dataset_id), lambda done: Dataset.objects.filter(pk=dataset_id).update(examined=done) and None)
    finally:
        Dataset.objects.filter(pk=dataset_id).update(examining=False)
