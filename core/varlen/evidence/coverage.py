"""How one set of pictures' values lies against another's: quantiles, the share covered, whether they differ at all."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import stats

Floats = NDArray[np.float64]

#: Values of the field within these quantiles of the variants are covered.
COVERED_WITHIN = (0.01, 0.99)
#: The part of the field that is to be covered.
FIELD_RANGE = (0.02, 0.98)
#: Chance at which a difference is taken for one: nine conditions are asked, so it is small.
UNLIKELY = 0.002
#: How well a condition alone must tell the two apart to matter: the share of pairs in the wrong order, 0.5 where it can't.
MATTERS = 0.66
#: Expected outside of 1-99 %, with what few pictures add.
OUTSIDE = 0.035


def span_of(values: Floats) -> list[float]:
    """2nd, 50th and 98th percentile."""
    return [float(each) for each in np.quantile(values, (0.02, 0.5, 0.98))]


def inner_range(values: Floats) -> tuple[float, float]:
    """The 1-99 % range."""
    low, high = np.quantile(values, COVERED_WITHIN)
    return float(low), float(high)


def wanted_range(field: Floats) -> tuple[float, float]:
    """What is to be covered of a field: its 2-98 % range, outwards to values that were seen."""
    low, high = np.quantile(field, FIELD_RANGE[0], method="lower"), np.quantile(field, FIELD_RANGE[1], method="higher")
    return float(low), float(high)


def covered(field: Floats, variants: Floats) -> float:
    """Share of the field within the variants' 1-99 % range, 0 … 1."""
    return float(within(field, variants).mean())


def within(field: Floats, variants: Floats) -> NDArray[np.bool_]:
    """Which values of the field lie in the variants' 1-99 % range. Differences in the last digits count as none."""
    low, high = inner_range(variants)
    hair = 1e-9 * max(1.0, abs(low), abs(high))
    return (field >= low - hair) & (field <= high + hair)


def told_apart(field: Floats, variants: Floats) -> tuple[float, float]:
    """How well one condition alone tells the two apart: the share of pairs in which the field's value is higher (ties half), and the
    chance of a share this far from 0.5 if they were alike (Mann-Whitney, normal approximation)."""
    if np.ptp(np.concatenate([field, variants])) == 0.0:
        return 0.5, 1.0
    found = stats.mannwhitneyu(field, variants, alternative="two-sided", method="asymptotic")
    return float(found.statistic) / (len(field) * len(variants)), float(found.pvalue)


def differs(field: Floats, variants: Floats) -> bool:
    """Whether the field lies elsewhere, or reaches further, than chance would have it."""
    share, chance = told_apart(field, variants)
    if chance < UNLIKELY and max(share, 1.0 - share) > MATTERS:
        return True
    outside = int((~within(field, variants)).sum())
    return outside > 1 and float(stats.binom.sf(outside - 1, len(field), OUTSIDE)) < UNLIKELY
