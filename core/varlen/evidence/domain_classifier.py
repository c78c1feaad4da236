"""Can a small classifier tell field from variants? One number: the area under its ROC curve, by cross-validation."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import stats

Floats = NDArray[np.float64]

FOLDS = 5
#: Weight of the penalty on squared factors: enough that few pictures separate without running off.
RIDGE = 1.0
ROUNDS = 25
RESAMPLES = 400
SEED = 5


@dataclass(frozen=True, slots=True)
class Told:
    """The area under the curve, 0.5 where the classifier can't tell and 1 where it always can, with a 95 % interval."""

    auc: float
    low: float
    high: float


def tell_apart(one: Floats, one_groups: list[str], other: Floats, other_groups: list[str]) -> Told:
    """How well two sets of pictures are told apart by their conditions.

    one, other: (N, C) conditions; groups: pictures of one group (variants of one source) are never on both sides of a fold. A logistic
    regression with a ridge penalty on the standardised conditions is fitted to four fifths of the groups and asked about the rest, five
    times; the area is taken over all answers. The interval is a bootstrap over groups. It sees that one side lies elsewhere, not that it
    reaches further: variants may well be more varied than the field, and that the field reaches beyond them is what coverage tells.
    """
    values = np.concatenate([one, other])
    truth = np.concatenate([np.zeros(len(one)), np.ones(len(other))])
    groups = np.unique([*(f"0{name}" for name in one_groups), *(f"1{name}" for name in other_groups)], return_inverse=True)[1]
    fold = _folds(groups, truth)
    scores = np.empty(len(values))
    for number in range(FOLDS):
        asked = fold == number
        if asked.any() and (~asked).any():
            scores[asked] = _answers(values[~asked], truth[~asked], values[asked])
    rng = np.random.default_rng(SEED)
    found = [_resampled(rng, scores, truth, groups) for _ in range(RESAMPLES)]
    low, high = np.quantile(found, (0.025, 0.975))
    return Told(_area(scores, truth), float(low), float(high))


def _folds(groups: NDArray[np.int64], truth: Floats) -> NDArray[np.int64]:
    """A fold for every picture: each side's groups dealt out in a shuffled order."""
    fold = np.empty(len(groups), np.int64)
    rng = np.random.default_rng(SEED)
    for side in (0.0, 1.0):
        names = rng.permutation(np.unique(groups[truth == side]))
        dealt = dict(zip(names.tolist(), (np.arange(len(names)) % FOLDS).tolist(), strict=True))
        chosen = truth == side
        fold[chosen] = [dealt[name] for name in groups[chosen].tolist()]
    return fold


def _answers(known: Floats, truth: Floats, asked: Floats) -> Floats:
    """Log odds of "other" for the rows asked, both sides counting alike."""
    middle = np.median(known, axis=0)
    spread = np.maximum(known.std(axis=0), 1e-9 * np.maximum(1.0, np.abs(middle)))
    factors = _fitted(_terms((known - middle) / spread), truth)
    odds: Floats = np.einsum("ni,i->n", _terms((asked - middle) / spread), factors)
    return odds


def _terms(values: Floats) -> Floats:
    """One and the conditions; far values are drawn in, so that one odd picture decides nothing."""
    return np.concatenate([np.ones((len(values), 1)), np.clip(values, -4.0, 4.0)], axis=1)


def _fitted(terms: Floats, truth: Floats) -> Floats:
    """Factors of a logistic regression with a ridge penalty, by Newton's method."""
    weight = np.where(truth > 0, 0.5 / max(truth.sum(), 1.0), 0.5 / max((1 - truth).sum(), 1.0)) * len(truth)
    penalty = np.full(terms.shape[1], RIDGE)
    penalty[0] = 1e-6
    factors = np.zeros(terms.shape[1])
    for _ in range(ROUNDS):
        odds = np.clip(np.einsum("ni,i->n", terms, factors), -30, 30)
        chance = 1.0 / (1.0 + np.exp(-odds))
        slope = np.einsum("ni,n->i", terms, weight * (truth - chance)) - penalty * factors
        bend = np.einsum("ni,n,nj->ij", terms, weight * chance * (1 - chance), terms) + np.diag(penalty)
        step = np.linalg.solve(bend, slope)
        factors = factors + step
        if float(np.abs(step).max()) < 1e-8:
            break
    return factors


def _area(scores: Floats, truth: Floats) -> float:
    """Share of pairs in which "other" has the higher score; ties count half."""
    ranks = stats.rankdata(scores)
    others = truth > 0
    count, rest = int(others.sum()), int((~others).sum())
    if not count or not rest:
        return 0.5
    return float((ranks[others].sum() - count * (count + 1) / 2) / (count * rest))


def _resampled(rng: np.random.Generator, scores: Floats, truth: Floats, groups: NDArray[np.int64]) -> float:
    """The area with each side's groups drawn anew."""
    weight = np.zeros(len(scores))
    for side in (0.0, 1.0):
        chosen = truth == side
        names, place = np.unique(groups[chosen], return_inverse=True)
        times = np.bincount(rng.integers(len(names), size=len(names)), minlength=len(names))
        weight[chosen] = times[place]
    order = np.argsort(scores, kind="stable")
    value, others, mass = scores[order], truth[order] > 0, weight[order]
    below = np.cumsum(np.where(others, 0.0, mass))
    first, last = np.searchsorted(value, value, "left"), np.searchsorted(value, value, "right")
    under = np.where(first > 0, below[first - 1], 0.0)
    half = (below[last - 1] - under) / 2
    won = float((np.where(others, mass, 0.0) * (under + half)).sum())
    total = float(mass[others].sum() * mass[~others].sum())
    return won / total if total else 0.5
