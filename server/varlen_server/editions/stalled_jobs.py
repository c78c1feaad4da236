"""Jobs whose worker was killed stay “doing” for ever unless someone puts them back."""

from __future__ import annotations

from typing import Any

from asgiref.sync import sync_to_async
from procrastinate import App

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
    """Put jobs back whose worker has been silent; returns how many."""
    stalled = list(await app.job_manager.get_stalled_jobs(seconds_since_heartbeat=silent_seconds))
    for job in stalled:
        if job.attempts < MOST_ATTEMPTS:
            await app.job_manager.retry_job(job)
    return len(stalled)
