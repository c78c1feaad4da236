"""The `varlen-server` command: what an administrator does by hand while the server runs.

    varlen-server clean [--yes]     what could be removed without anybody missing it
    varlen-server first_link        a link for the first account, while there is none
    varlen-server find_editions     take in editions whose folders are there but not in the database

VARLEN_STATE says of which Varlen; its database must run.
"""

from __future__ import annotations

import os
import sys

COMMANDS = ("clean", "first_link", "find_editions", "migrate")


def main() -> None:
    """Run one of the commands; any other prints what there are."""
    if len(sys.argv) < 2 or sys.argv[1] not in COMMANDS:
        print((__doc__ or "").strip())
        sys.exit(0 if len(sys.argv) < 2 or sys.argv[1] in ("-h", "--help", "help") else 2)
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "varlen_server.settings")
    from django.core.management import execute_from_command_line

    execute_from_command_line(sys.argv)
