"""A link by which the first admin makes an account, printed while there is none."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand

from varlen_server.people.services import first_link_secret


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("--at", default="", help="where this Varlen is reached")

    def handle(self, *args: Any, **options: Any) -> None:
        secret = first_link_secret()
        if secret is not None:
            # Behind the #, so that it is never sent in an address.
            self.stdout.write(f"{options['at']}/join#{secret}")
