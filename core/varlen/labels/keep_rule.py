"""When an object counts as whole, clipped, lost or too small: the one rule of exports, contact sheets and forecasts.

`share` is what the last stage left of an object, 0 … 1; `left` is what is left of the whole object. An object is lost
when nothing of it is left, or when less than the pipeline's `keep_share` is; regions of many (crowd) stay while any
part is in sight, for they say where not to look. An object whose box ends with a shorter side under `keep_side_px` is
dropped too. Both limits may be met exactly.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from varlen.pipeline.reading import LabelRules

Shares = NDArray[np.float64]
Flags = NDArray[np.bool_]

#: A share this near to one is whole: what is missing is rounding.
WHOLE = 1.0 - 1e-9
#: Why a step clipped an object.
CUT_BY_FRAME = "cut by the frame"
COVERED = "partly covered"


def touched(share: Shares) -> Flags:
    """Which objects lost any part."""
    return share < WHOLE


def lost(share: Shares, left: Shares, crowd: Flags, rules: LabelRules) -> Flags:
    """Which objects are to be dropped for what is left of them. All arrays have one shape, or broadcast to it."""
    return (share <= 0.0) | (touched(share) & (left < rules.keep_share) & ~crowd)


def too_small(boxes: NDArray[np.float64], rules: LabelRules) -> Flags:
    """Which boxes (…, 4) have a shorter side under the limit."""
    return np.minimum(boxes[..., 2] - boxes[..., 0], boxes[..., 3] - boxes[..., 1]) < rules.keep_side_px


def required_share(rules: LabelRules, prior: float) -> float:
    """The share of an object's state before a run of which no less must be left; prior: how much of the whole that state was."""
    return max(rules.keep_share, 1e-9) / prior if prior > 0.0 else 1.0


def cut_reason(share: float, rules: LabelRules) -> str:
    """Why an object is dropped of which the frame leaves `share` of its last state."""
    return "outside the frame" if share <= 0.0 else f"less than {rules.keep_share * 100:g} % left"


def cover_reason(share: float, rules: LabelRules) -> str:
    """Why an object is dropped of which `share` of its last state is not covered."""
    return "covered" if share <= 0.0 else f"covered, less than {rules.keep_share * 100:g} % left"


def small_reason(rules: LabelRules) -> str:
    """Why an object is dropped that ended too small."""
    return f"shorter side under {rules.keep_side_px:g} px"
