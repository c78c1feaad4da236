"""Scores of several runs compared: paired differences with their intervals."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from scipy import stats

from varlen.editions.record import RECORD, read_record
from varlen.editions.scores import Score, scores_of
from varlen.errors import EvidenceError

Floats = NDArray[np.float64]
Verdict = Literal["helps", "hurts", "no difference shown"]

RESAMPLES = 2000
SEED = 11
CONFIDENCE = 0.95


@dataclass(frozen=True, slots=True)
class Difference:
    """A mean difference with its 95 % interval. seeds, pictures: the standard error that each brings."""

    mean: float
    low: float
    high: float
    seeds: float
    pictures: float

    @property
    def verdict(self) -> Verdict:
        """Helps or hurts where the whole interval lies on one side of nothing."""
        if self.low > 0:
            return "helps"
        return "hurts" if self.high < 0 else "no difference shown"


def score(right: Floats, whole: Floats, weight: Floats | None = None) -> Floats:
    """The mean over columns of right / all; columns with nothing to judge don't count.

    right, whole: (P, C) of each picture; weight: (R, P) how often each picture is drawn, for R scores at once.
    """
    weight = np.ones((1, len(right))) if weight is None else weight
    top, bottom = weight @ right, weight @ whole
    known = bottom > 0
    shares = np.where(known, top / np.where(known, bottom, 1.0), 0.0)
    return np.asarray(shares.sum(axis=1) / np.maximum(known.sum(axis=1), 1))


def difference(one: list[tuple[Floats, Floats]], other: list[tuple[Floats, Floats]]) -> Difference:
    """How much better `one` is than `other`, run for run with the same seeds on the same pictures.

    Each run: right and all, (P, C). The interval's variance is that between seeds, s² / n, plus that of a bootstrap over pictures (drawn
    alike for both and for all seeds); its width is t with the degrees of freedom of Welch and Satterthwaite. With one seed only the
    pictures' part is known, and the interval is too narrow to trust.
    """
    per_seed = np.array([float(score(*a)[0] - score(*b)[0]) for a, b in zip(one, other, strict=True)])
    pictures = len(one[0][0])
    rng = np.random.default_rng(SEED)
    weight = rng.multinomial(pictures, np.full(pictures, 1.0 / pictures), size=RESAMPLES).astype(np.float64)
    resampled = np.mean([score(*a, weight) - score(*b, weight) for a, b in zip(one, other, strict=True)], axis=0)
    count = len(per_seed)
    of_seeds = float(per_seed.var(ddof=1)) / count if count > 1 else 0.0
    of_pictures = float(resampled.var(ddof=1)) if pictures > 1 else 0.0
    mean = float(per_seed.mean())
    variance = of_seeds + of_pictures
    if variance <= 0.0:
        return Difference(mean, mean, mean, 0.0, 0.0)
    half = _half_width(variance, _freedom((of_seeds, count), (of_pictures, pictures)))
    return Difference(mean, mean - half, mean + half, math.sqrt(of_seeds), math.sqrt(of_pictures))


def interval_of(values: Floats) -> tuple[float, float, float]:
    """Mean of runs and its 95 % interval by t; without width for one."""
    mean = float(values.mean())
    if len(values) < 2:
        return mean, mean, mean
    half = _half_width(float(values.var(ddof=1)) / len(values), len(values) - 1)
    return mean, mean - half, mean + half


def _half_width(variance: float, freedom: float) -> float:
    """Half an interval by t, for a mean with this variance."""
    return float(stats.t.ppf((1 + CONFIDENCE) / 2, freedom)) * math.sqrt(variance)


def _freedom(*parts: tuple[float, int]) -> float:
    """Degrees of freedom of a sum of variances of means, each with how many values it is from (Welch and Satterthwaite)."""
    weighed = sum(variance**2 / max(count - 1, 1) for variance, count in parts)
    return float(sum(variance for variance, _ in parts) ** 2 / weighed) if weighed else 1.0


def paired_difference(one: Floats, other: Floats) -> tuple[float, float, float]:
    """Mean of differences pair by pair, with its interval by t."""
    return interval_of(one - other)


def free_difference(one: Floats, other: Floats) -> tuple[float, float, float]:
    """Difference of means of runs that are no pairs, with Welch's interval; without width where a side has one run."""
    mean = float(one.mean() - other.mean())
    if len(one) < 2 or len(other) < 2:
        return mean, mean, mean
    a, b = float(one.var(ddof=1)) / len(one), float(other.var(ddof=1)) / len(other)
    if a + b <= 0.0:
        return mean, mean, mean
    half = _half_width(a + b, _freedom((a, len(one)), (b, len(other))))
    return mean, mean - half, mean + half


def seeds_to_tell(found: Difference, count: int) -> int | None:
    """How many seeds would show a difference this large; None where pictures alone already hide it, or there is none."""
    if count < 2 or abs(found.mean) <= 1.96 * found.pictures or found.mean == 0.0:
        return None
    for more in range(count + 1, 101):
        half = float(stats.t.ppf(0.975, more - 1)) * found.seeds * math.sqrt(count / more)
        if math.hypot(half, 1.96 * found.pictures) < abs(found.mean):
            return more
    return None


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
