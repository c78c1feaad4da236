"""Say what could be removed without anybody missing it; with --yes, remove it."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand, CommandError

from varlen_server.backups import Busy
from varlen_server.cleaning import find_waste, remove


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("--yes", action="store_true", help="remove it")

    def handle(self, *args: Any, **options: Any) -> None:
        try:
            waste = find_waste()
            for each in waste:
                self.stdout.write(f"{each.bytes / 1e6:>10,.1f} MB  {len(each.paths):>7,}  {each.why}")
            if options["yes"]:
                remove(waste)
                self.stdout.write("removed")
            else:
                self.stdout.write("nothing was removed; --yes does")
        except Busy as busy:
            raise CommandError(str(busy)) from None
