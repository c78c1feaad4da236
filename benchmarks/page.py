"""The page of figures: tables are put in their places, what is written around them stays."""

from __future__ import annotations

import json
from pathlib import Path

from benchmarks.timing import Table

#: Figures of the first version, by table and row; docs/benchmarks.md says where they are from.
BEFORE = Path(__file__).with_name("before.json")


def put(page: str, table: Table, measured: str) -> str:
    """The page with a table in place of the one under the same heading, or at its end; measured: when, and at what pace of the machine."""
    heading = f"### {table.title}\n"
    body = f"{heading}\n{measured}\n\n{table.markdown(_before(table.title))}"
    if heading not in page:
        return f"{page.rstrip()}\n\n{body}"
    head, rest = page.split(heading, 1)
    lines = rest.split("\n")
    first = next(place for place, line in enumerate(lines) if line.startswith("|"))
    end = next((place for place in range(first, len(lines)) if not lines[place].startswith("|")), len(lines))
    return head + body + "\n".join(lines[end:])


def _before(title: str) -> dict[str, str]:
    found: dict[str, dict[str, str]] = json.loads(BEFORE.read_text())
    return found.get(title, {})
