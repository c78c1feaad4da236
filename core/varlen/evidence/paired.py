"""Differences between runs with their uncertainty: over seeds and over pictures at once."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy import stats

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
