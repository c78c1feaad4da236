"""Scores of several editions in one table: means over runs, and differences to a baseline with their intervals."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from varlen.editions.record import RECORD, read_record
from varlen.editions.scores import Score, scores_of
from varlen.errors import EvidenceError
from varlen.evidence.paired import free_difference, interval_of, paired_difference

COLUMNS = ("dataset", "pipeline", "edition", "score", "split", "n", "mean", "spread", "low", "high", "difference", "difference_low",
           "difference_high", "paired", "verdict")  # fmt: skip
#: Scores of which less is better, by words in their names.
LESS_IS_BETTER = ("loss", "error", "rmse", "mae", "mse")


@dataclass(frozen=True)
class ScoredEdition:
    """An edition with its runs: for each score and split, a final value by run."""

    name: str
    dataset: str
    dataset_digest: str
    pipeline: str
    steps: int
    scores: Sequence[Score]

    @staticmethod
    def of(name: str, dataset: str, dataset_digest: str, document: dict[str, Any], scores: Sequence[Score]) -> ScoredEdition:
        """An edition made with a pipeline document. `steps` counts those that are not for every picture."""
        steps = sum(1 for step in document["steps"] if step.get("enabled", True) and step.get("scope") != "every")
        return ScoredEdition(name, dataset, dataset_digest, str(document["name"]), steps, scores)

    def finals(self) -> dict[tuple[str, str], dict[str, float]]:
        """For each (score, split) the value of each run: that of the whole training, else of the last epoch."""
        found: dict[tuple[str, str], dict[str, tuple[float, float]]] = {}
        for score in self.scores:
            place = np.inf if score.epoch is None else score.epoch
            runs = found.setdefault((score.name, score.split), {})
            if score.run not in runs or runs[score.run][0] <= place:
                runs[score.run] = (place, score.value)
        return {key: {run: value for run, (_, value) in runs.items()} for key, runs in found.items()}


def read_editions(folders: Iterable[Path]) -> list[ScoredEdition]:
    """Editions with scores in and below folders, in the order of their paths. Raises `EvidenceError` where there is none."""
    found, given = [], list(folders)
    for folder in given:
        records = [folder / RECORD] if (folder / RECORD).exists() else sorted(folder.glob(f"*/{RECORD}"))
        for path in records:
            record = read_record(path.parent)
            digest = record["dataset_digest"]
            found.append(ScoredEdition.of(path.parent.name, digest[:19], digest, record["pipeline"], scores_of(path.parent)))
    if not found:
        raise EvidenceError(f"{', '.join(map(str, given))}: no edition there")
    return found


def compare_scores(editions: Sequence[ScoredEdition], baseline: str = "") -> list[dict[str, Any]]:
    """A row for each edition and score, in plain values; see `COLUMNS`.

    baseline: the edition (or pipeline) that others of its dataset are compared with; by default the one with the fewest random steps, the
    first of several. Runs are compared pair by pair where both sides have the same names (at least two), else by Welch's interval.
    Raises `EvidenceError` for a baseline that isn't there.
    """
    if baseline and not any(baseline in (edition.name, edition.pipeline) for edition in editions):
        raise EvidenceError(f"there is no edition or pipeline {baseline!r}; there are {', '.join(edition.name for edition in editions)}")
    rows = []
    for edition in editions:
        base = _baseline(edition, editions, baseline)
        for (name, split), runs in edition.finals().items():
            rows.append(_row(edition, base, name, split, runs))
    return rows


def _baseline(edition: ScoredEdition, editions: Sequence[ScoredEdition], wanted: str) -> ScoredEdition | None:
    """What an edition is compared with; None for the baseline itself."""
    peers = [each for each in editions if each.dataset_digest == edition.dataset_digest and each.scores]
    if wanted:
        peers = [each for each in peers if wanted in (each.name, each.pipeline)]
    found = min(peers, key=lambda each: each.steps, default=None)
    return None if found is edition else found


def _row(edition: ScoredEdition, base: ScoredEdition | None, name: str, split: str, runs: dict[str, float]) -> dict[str, Any]:
    values = np.array([runs[run] for run in sorted(runs)])
    mean, low, high = interval_of(values)
    row: dict[str, Any] = dict.fromkeys(COLUMNS)
    row |= {"dataset": edition.dataset, "pipeline": edition.pipeline, "edition": edition.name, "score": name, "split": split, "n": len(values),
            "mean": mean, "spread": float(values.std(ddof=1)) if len(values) > 1 else 0.0, "low": low, "high": high,
            "values": dict(sorted(runs.items()))}  # fmt: skip
    others = base.finals().get((name, split)) if base is not None else None
    if not others:
        return row
    shared = sorted(set(runs) & set(others))
    paired = len(shared) > 1
    if paired:
        told = paired_difference(np.array([runs[run] for run in shared]), np.array([others[run] for run in shared]))
    else:
        told = free_difference(values, np.array([others[run] for run in sorted(others)]))
    row |= {"difference": told[0], "difference_low": told[1], "difference_high": told[2], "paired": paired, "verdict": _verdict(name, told)}
    return row


def _verdict(name: str, told: tuple[float, float, float]) -> str:
    """In words, as far as an interval allows; which way is better goes by the score's name."""
    _, low, high = told
    if low == high:
        return "one run says nothing of chance"
    if low <= 0.0 <= high:
        return "no difference shown"
    better = (low > 0) != any(word in name.lower() for word in LESS_IS_BETTER)
    return "helps" if better else "hurts"


def to_csv(rows: Sequence[dict[str, Any]]) -> str:
    """The rows as CSV, numbers in full."""
    out = io.StringIO()
    writer = csv.DictWriter(out, COLUMNS, extrasaction="ignore", lineterminator="\n")
    writer.writeheader()
    writer.writerows(rows)
    return out.getvalue()
