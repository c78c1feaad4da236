"""Timing things side by side."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping


def best(work: Callable[[], object], seconds: float = 0.6, least: int = 5) -> float:
    """Milliseconds of one call: the lower third of many, after two to warm up."""
    work()
    work()
    taken: list[float] = []
    until = time.perf_counter() + seconds
    while len(taken) < least or time.perf_counter() < until:
        start = time.perf_counter()
        work()
        taken.append(time.perf_counter() - start)
    taken.sort()
    return taken[len(taken) // 3] * 1000


def against(ours: Callable[[], object], theirs: Callable[[], object], seconds: float = 1.2, least: int = 5) -> tuple[float, float]:
    """Milliseconds of one call of ours, and how many times as long theirs takes: in turns, for the machine changes its pace within seconds."""
    best(ours, 0.1)
    theirs()
    taken: list[tuple[float, float]] = []
    until = time.perf_counter() + seconds
    while len(taken) < least or time.perf_counter() < until:
        times = []
        for work in (ours, theirs, ours):
            start = time.perf_counter()
            work()
            times.append(time.perf_counter() - start)
        taken.append((min(times[0], times[2]), times[1]))
    ratios = sorted(reference / own for own, reference in taken)
    return sorted(own for own, _ in taken)[len(taken) // 3] * 1000, ratios[len(ratios) // 2]


class Table:
    """Rows of a measurement, printed as Markdown."""

    def __init__(self, title: str, *columns: str) -> None:
        self.title, self.columns = title, columns
        self.rows: list[tuple[str, ...]] = []

    def add(self, *values: object) -> None:
        self.rows.append(tuple(f"{value:.2f}" if isinstance(value, float) else str(value) for value in values))
        print("  " + " | ".join(self.rows[-1]), flush=True)

    def value(self, name: str) -> float:
        """The first figure of a row."""
        return float(next(row[1] for row in self.rows if row[0] == name))

    def markdown(self, before: Mapping[str, str]) -> str:
        """The table, with a column of what was measured before, by the names of rows."""
        *columns, last = self.columns
        lines = ["| " + " | ".join((*columns, "before", last)) + " |", "|" + "---|" * (len(columns) + 2)]
        lines += ["| " + " | ".join((*row[:-1], before.get(row[0], ""), row[-1])) + " |" for row in self.rows]
        return "\n".join(lines) + "\n"
