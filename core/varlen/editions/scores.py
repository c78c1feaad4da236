"""Numbers that came of training on an edition, kept beside it in `scores.jsonl`.

One line a score: name, value, and where they apply run, epoch, split and a note. Lines are only
ever added; of several with one run, name, split and epoch the last counts.
"""

from __future__ import annotations

import csv
import io
import math
import os
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import orjson

from varlen.datasets.splits import SPLIT_WORDS
from varlen.editions.record import RECORD, SCORES
from varlen.errors import EditionError

MOST_ROWS = 1_000_000
_PLACES = ("epoch", "step", "split", "note", "time", "at", "run", "seed")
#: Letters of a run's name.
LONGEST_RUN = 120


@dataclass(frozen=True, slots=True)
class Score:
    """One number; epoch None: of the whole training; run: which training of several, such as "seed 3", "" for the only one."""

    name: str
    value: float
    epoch: float | None = None
    split: str = ""
    note: str = ""
    at: str = ""
    run: str = ""


def attach(folder: Path, scores: list[Score]) -> None:
    """Add scores to an edition in one write. Raises `EditionError` when there is no edition or a score is no number."""
    if not (folder / RECORD).exists():
        raise EditionError(f"{folder}: no edition here (there is no {RECORD})")
    now = datetime.now(UTC).isoformat(timespec="seconds")
    for score in scores:
        check(score)
    lines = b"".join(orjson.dumps({**asdict(score), "at": score.at or now}) + b"\n" for score in scores)
    try:
        with os.fdopen(os.open(folder / SCORES, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o644), "wb") as out:
            out.write(lines)
    except OSError as error:
        raise EditionError(f"{folder / SCORES}: {error.strerror or error}") from None


def check(score: Score) -> None:
    """Raises `EditionError` for a score without a name or without a finite value."""
    if not score.name.strip() or len(score.name) > 120:
        raise EditionError("a score needs a name of at most 120 letters")
    if len(score.run) > LONGEST_RUN:
        raise EditionError(f"a run's name has at most {LONGEST_RUN} letters")
    if not math.isfinite(score.value):
        raise EditionError(f"{score.name}: {score.value} is not a number that can be compared")


def scores_of(folder: Path) -> list[Score]:
    """An edition's scores, each the last of its kind, by run, name, split and epoch."""
    try:
        lines = (folder / SCORES).read_bytes().splitlines()
    except OSError:
        return []
    found: dict[tuple[str, str, str, float | None], Score] = {}
    for number, line in enumerate(lines, 1):
        try:
            score = Score(**orjson.loads(line))
        except (orjson.JSONDecodeError, TypeError) as error:
            raise EditionError(f"{folder / SCORES}, line {number}: damaged ({error})") from None
        found[score.run, score.name, score.split, score.epoch] = score
    return sorted(found.values(), key=lambda score: (score.name, score.split, score.run, score.epoch is None, score.epoch or 0.0))


def read_scores(text: str, source: str, run: str = "") -> list[Score]:
    """Scores from what trainers write: CSV or JSON lines, a score a row or a column a score.

    A row with `name` and `value` is one score. Otherwise every column that holds numbers is
    one; `epoch`, `split`, `note` and `run` (or `seed`) say where it belongs, and a name such as `val/loss` names
    its split itself. run: of rows that name none. Raises `EditionError` naming the line.
    """
    rows = _json_rows(text, source) if text.lstrip().startswith("{") else _csv_rows(text, source)
    found: list[Score] = []
    for number, row in rows:
        found += _of_row(row, f"{source}, line {number}", run)
        if len(found) > MOST_ROWS:
            raise EditionError(f"{source}: more than {MOST_ROWS} scores")
    if not found:
        raise EditionError(f"{source}: there is no score in it")
    return found


def _json_rows(text: str, source: str) -> list[tuple[int, dict[str, Any]]]:
    found = []
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip():
            continue
        try:
            row = orjson.loads(line)
        except orjson.JSONDecodeError as error:
            raise EditionError(f"{source}, line {number}: not JSON ({error})") from None
        if not isinstance(row, dict):
            raise EditionError(f'{source}, line {number}: expected an object, such as {{"epoch": 1, "loss": 0.5}}')
        found.append((number, row))
    return found


def _csv_rows(text: str, source: str) -> list[tuple[int, dict[str, Any]]]:
    reader = csv.DictReader(io.StringIO(text), skipinitialspace=True)
    try:
        rows = [(reader.line_num, {(name or "").strip(): value for name, value in row.items() if name is not None}) for row in reader]
    except csv.Error as error:
        raise EditionError(f"{source}, line {reader.line_num}: not CSV ({error})") from None
    if not reader.fieldnames or len(reader.fieldnames) < 2:
        raise EditionError(f"{source}: expected CSV with a line of column names, or JSON lines")
    return rows


def _of_row(row: dict[str, Any], place: str, run: str) -> list[Score]:
    epoch = _number(row.get("epoch"))
    if row.get("epoch") not in (None, "") and epoch is None:
        raise EditionError(f"{place}: the epoch {row['epoch']!r} is not a number")
    split, note, run = str(row.get("split") or ""), str(row.get("note") or ""), _run_of(row) or run
    if "name" in row and "value" in row:
        value = _number(row["value"])
        if value is None:
            raise EditionError(f"{place}: the value {row['value']!r} is not a number")
        return [_named(str(row["name"]), value, epoch, split, note, run)]
    return [
        _named(name, value, epoch, split, note, run)
        for name, text in row.items()
        if name and name not in _PLACES and (value := _number(text)) is not None
    ]  # fmt: skip


def _run_of(row: dict[str, Any]) -> str:
    """The run that a row names: its own name, or its seed."""
    if row.get("run") not in (None, ""):
        return str(row["run"]).strip()
    seed = row.get("seed")
    if seed in (None, ""):
        return ""
    number = _number(seed)
    return f"seed {number:g}" if number is not None else f"seed {seed}"


def _named(name: str, value: float, epoch: float | None, split: str, note: str, run: str) -> Score:
    """A name such as `val/loss` or `train_loss` says its split, when no column does."""
    name = name.strip()
    for mark in ("/", "_"):
        first, _, rest = name.partition(mark)
        if not split and rest and first.lower() in SPLIT_WORDS:
            name, split = rest, first
    return Score(name, value, epoch, SPLIT_WORDS.get(split.lower(), split), note, run=run)


def _number(value: Any) -> float | None:
    """A finite number, None for anything else."""
    if isinstance(value, bool) or value is None:
        return None
    try:
        number = float(value)
    except (TypeError, ValueError):
        return None
    return number if math.isfinite(number) else None
