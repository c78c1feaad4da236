"""Take in editions from their folders, and take up exports whose job got lost. Run at every start."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand

from varlen_server.datasets.tasks import fail_lost_imports
from varlen_server.editions.recovery import adopt_folders, restart_lost_jobs


class Command(BaseCommand):
    help = __doc__

    def handle(self, *args: Any, **options: Any) -> None:
        for problem in adopt_folders():
            self.stderr.write(problem)
        restart_lost_jobs()
        fail_lost_imports()
