"""What the commands share: arguments, progress on a terminal, tables, files."""

from __future__ import annotations

import errno
import os
import re
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated, Any, TextIO

import typer

from varlen.errors import VarlenError
from varlen.time_left import TimeLeft

DatasetArgument = Annotated[Path, typer.Argument(metavar="DATASET", help="a folder, a zip, a picture or a file of labels")]
PipelineArgument = Annotated[Path, typer.Argument(metavar="PIPELINE", help="a *.varlen.json file")]
#: Between two lines about long work where there is no terminal.
LINE_SECONDS = 4.0
JsonOption = Annotated[bool, typer.Option("--json", help="machine-readable output")]


#: Set by --quiet: nothing is said of progress.
QUIET = "VARLEN_QUIET"


def is_quiet() -> bool:
    """Whether nobody wants to know of progress."""
    return bool(os.environ.get(QUIET))


@contextmanager
def waiting(label: str, done: threading.Event | None = None) -> Iterator[None]:
    """While something of unknown length runs: says every few seconds that it continues, until it ends or `done` is set."""
    done = done or threading.Event()
    begun = time.monotonic()

    def tell() -> None:
        while not done.wait(LINE_SECONDS):
            say(f"{label} … {time.monotonic() - begun:.0f} s")

    teller = threading.Thread(target=tell, daemon=True)
    if not is_quiet():
        teller.start()
    try:
        yield
    finally:
        done.set()


@contextmanager
def progress_bar(label: str, total: int) -> Iterator[Callable[[int], None]]:
    """A bar on a terminal, a line every few seconds elsewhere, nothing with --quiet; the function sets how much is done."""
    if is_quiet():
        yield lambda done: None
        return
    if not sys.stderr.isatty():
        begun = threading.Event()
        with waiting(f"{label}: none of {total:,} yet", begun):
            yield _lines(label, total, begun)
        return
    from rich.console import Console
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, ProgressColumn, Task, TextColumn
    from rich.text import Text

    class Rate(ProgressColumn):
        def render(self, task: Task) -> Text:
            return Text(f"{task.finished_speed or task.speed or 0:.0f}/s")

    class Rest(ProgressColumn):
        def render(self, task: Task) -> Text:
            rest = time_left.after(task.completed / (task.total or 1))
            return Text("" if rest is None else f"about {rest:.0f} s left")

    time_left = TimeLeft()
    columns = (TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), Rate(), Rest())
    with Progress(*columns, console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task(label, total=total)
        yield lambda done: bar.update(task, completed=done)


def _lines(label: str, total: int, first: threading.Event) -> Callable[[int], None]:
    """Says how much is done and, from a tenth on, how long the rest will take, but not more often than people want to read."""
    told, time_left = time.monotonic(), TimeLeft()

    def set_done(done: int) -> None:
        nonlocal told
        if done:
            first.set()
        now, rest = time.monotonic(), time_left.after(done / max(total, 1))
        if now - told >= LINE_SECONDS and 0 < done < total:
            told = now
            say(f"{label}: {done:,} of {total:,}" + ("" if rest is None else f", about {rest:.0f} s left"))

    return set_done


def counter(set_done: Callable[[int], None]) -> Callable[[], None]:
    done = 0

    def one_more() -> None:
        nonlocal done
        done += 1
        set_done(done)

    return one_more


def write_file(path: Path, data: bytes) -> None:
    """Write a file whole. Raises `VarlenError` naming it."""
    from varlen.atomic_files import write_whole

    try:
        if not path.parent.is_dir():
            raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT))
        write_whole(path, data)
    except OSError as error:
        raise VarlenError(f"{path}: {error.strerror or error}") from None


def printable(text: str) -> str:
    """Text with control characters and what no terminal can show written as escapes."""
    return "".join(each if each.isprintable() else each.encode("unicode_escape").decode() for each in text)


#: Control characters, which a terminal obeys, and those that turn the direction of text.
_OBEYED = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")


class Shown:
    """Standard output on which no name of a file can command a terminal: control characters come as \\u escapes, which JSON reads as the same."""

    def __init__(self, out: TextIO) -> None:
        self._out = out

    def __getattr__(self, name: str) -> Any:
        return getattr(self._out, name)

    def write(self, text: str) -> int:
        """Text as it may be shown."""
        return self._out.write(_OBEYED.sub(lambda found: f"\\u{ord(found[0]):04x}", text))


def say(text: str) -> None:
    """One line for people, beside what a command prints."""
    print(printable(text), file=sys.stderr)


def print_table(rows: list[list[Any]]) -> None:
    rows = [[printable(str(value)) for value in row] for row in rows]
    widths = [max(len(str(row[column])) for row in rows) for column in range(len(rows[0]))]
    for row in rows:
        print("  ".join(str(value).ljust(widths[n]) if n == 0 else str(value).rjust(widths[n]) for n, value in enumerate(row)))
    print()
