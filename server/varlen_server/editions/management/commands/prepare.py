"""Everything between an empty or older database and a Varlen that can be used, in one process: starting one takes seconds."""

from __future__ import annotations

import sys
from typing import Any

from django.core.management import call_command
from django.core.management.base import BaseCommand


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("--demo-images", type=int, default=0, help="0 for no demo")
        parser.add_argument("--link-at", default="", help="where this Varlen will be reached: prints the first admin's link, while there is none")

    def handle(self, *args: Any, **options: Any) -> None:
        call_command("migrate", verbosity=0)
        if options["demo_images"]:
            # Not among what is asked for, and no error.
            call_command("load_demo", images=options["demo_images"], stdout=sys.stderr)
        call_command("find_editions")
        if options["link_at"]:
            call_command("first_link", at=options["link_at"], stdout=self.stdout)
