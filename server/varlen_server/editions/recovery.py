"""The database and the folders brought together: editions that only one of them knows, and jobs that got lost."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

from asgiref.sync import sync_to_async
from django.conf import settings
from django.db import transaction
from django.db.models import BigIntegerField, F, Func, Value
from procrastinate import App
from procrastinate.contrib.django.models import ProcrastinateJob
from procrastinate.jobs import Job, Status
from varlen.editions.export_spec import ExportSpec
from varlen.editions.record import RECORD, EditionRecord, read_record
from varlen.errors import VarlenError

from varlen_server.datasets.models import Dataset
from varlen_server.editions.models import Edition
from varlen_server.editions.services import free_name
from varlen_server.editions.tasks import finish, make_edition
from varlen_server.pipelines.models import Revision


def adopt_folders() -> list[str]:
    """Editions whose folder is there but which the database does not know; a line for each that can't be read."""
    problems = []
    folders = sorted(path.parent for path in Path(settings.EDITIONS).glob(f"edition-*/{RECORD}")) if Path(settings.EDITIONS).exists() else []
    for folder in folders:
        match = re.fullmatch(r"edition-(\d+)", folder.name)
        if match is None or Edition.objects.filter(pk=int(match[1])).exists():
            continue
        try:
            _number_after(_adopt(int(match[1]), read_record(folder)))
        except (VarlenError, KeyError, TypeError) as error:
            problems.append(f"{folder}: {error}")
    return problems


def _adopt(number: int, record: EditionRecord) -> Edition:
    known = record.get("known_as", {})
    order = ExportSpec(**ExportSpec.fields_of(record)).to_json()
    with transaction.atomic():
        edition = Edition.objects.create(
            pk=number, name=free_name((known.get("name") or f"{record['dataset']}, {record['pipeline'].get('name', '')}")[:120]),
            made_by=known.get("made_by", "")[:150],
            dataset=Dataset.objects.filter(digest=record["dataset_digest"]).first(),
            dataset_digest=record["dataset_digest"], dataset_name=record["dataset"], pipeline_digest=record["pipeline_digest"],
            revision=Revision.objects.filter(digest=record["pipeline_digest"]).first(), document=record["pipeline"], order=order,
        )  # fmt: skip
        finish(edition)
    return edition


def _number_after(edition: Edition) -> None:
    """New editions get numbers above one that was adopted with its own."""
    sequence = Func(Value(Edition._meta.db_table), Value("id"), function="pg_get_serial_sequence")
    advanced = Func(sequence, F("pk"), function="setval", output_field=BigIntegerField())
    highest = Edition.objects.order_by("-pk")[:1]
    if highest[0].pk == edition.pk:
        highest.annotate(next=advanced).values_list("next", flat=True).get()


def restart_lost_jobs() -> int:
    """Editions under way for which no job is left, as after a crash of the database: they get a new one. Returns how many."""
    count = 0
    live = ProcrastinateJob.objects.filter(task_name="make_edition", status__in=["todo", "doing"])
    known = {job.args.get("edition_id") for job in live}
    for edition in Edition.objects.filter(state__in=[Edition.State.WAITING, Edition.State.WRITING]).exclude(pk__in=known):
        make_edition.defer(edition_id=edition.pk)
        count += 1
    return count


MOST_ATTEMPTS = 20
SILENT_SECONDS = 30


def register(app: App) -> None:
    """Add the rescue to the worker's periodic tasks."""

    @app.periodic(cron="* * * * *")
    @app.task(name="rescue", queueing_lock="rescue", pass_context=True)
    async def rescue(context: Any, timestamp: int) -> None:
        await retry_stalled_jobs(app)
        await sync_to_async(_fail_lost_imports)()


def _fail_lost_imports() -> None:
    """See `fail_lost_imports`; imported late, for tasks are told apart by this module's app."""
    from varlen_server.datasets.tasks import fail_lost_imports

    fail_lost_imports()


async def retry_stalled_jobs(app: App, silent_seconds: float = SILENT_SECONDS) -> int:
    """Put jobs back whose worker has been silent; returns how many. One that was tried too often has failed, and what it was for says so."""
    stalled = list(await app.job_manager.get_stalled_jobs(seconds_since_heartbeat=silent_seconds))
    for job in stalled:
        if job.attempts < MOST_ATTEMPTS:
            await app.job_manager.retry_job(job)
        else:
            await app.job_manager.finish_job(job, Status.FAILED, delete_job=False)
            await sync_to_async(_give_up)(job)
    return len(stalled)


def _give_up(job: Job) -> None:
    """Say of an edition, match or probe that its job has failed; imports are found by `fail_lost_imports`."""
    from varlen_server.evidence.models import Inquiry

    why = f"the process that did it died {MOST_ATTEMPTS} times, perhaps for want of memory: start it again"
    if job.task_name == "make_edition":
        under_way = [Edition.State.WAITING, Edition.State.WRITING]
        Edition.objects.filter(pk=int(str(job.task_kwargs["edition_id"])), state__in=under_way).update(state=Edition.State.STOPPED, message=why)
    elif job.task_name == "carry_out_inquiry":
        running = [Inquiry.State.WAITING, Inquiry.State.RUNNING]
        Inquiry.objects.filter(pk=int(str(job.task_kwargs["inquiry_id"])), state__in=running).update(state=Inquiry.State.STOPPED, message=why)
