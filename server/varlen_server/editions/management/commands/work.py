"""The background worker. What an earlier worker left unfinished is put back first."""

from __future__ import annotations

import asyncio
import os
from typing import Any

from django.core.management.base import BaseCommand
from procrastinate.contrib.django import app
from varlen.executors import start_process_server

from varlen_server.editions.recovery import retry_stalled_jobs

#: Jobs and their processes leave the processor to the screen where both want it.
POLITE = 10
#: Seconds until processes for exports are made ready; before that the web server has the machine to itself.
SETTLED = 20


class Command(BaseCommand):
    help = __doc__

    def handle(self, *args: Any, **options: Any) -> None:
        os.nice(POLITE)
        asyncio.run(_work())


async def _work() -> None:
    asyncio.get_running_loop().call_later(SETTLED, start_process_server)
    worker_app = app.with_connector(app.connector.get_worker_connector())  # type: ignore[attr-defined]  # Django's has it
    async with worker_app.open_async():
        # This machine has one worker, so whatever is “doing” now was its predecessor's.
        await retry_stalled_jobs(worker_app, silent_seconds=0)
        await worker_app.run_worker_async(concurrency=3, shutdown_graceful_timeout=5)
