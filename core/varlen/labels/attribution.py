"""Which step of a run of geometry clipped, shrank or lost an object, and the words for it."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.label_transforms import responsible_members, shares_left
from varlen.labels.outcomes import SOURCE
from varlen.model.geometry import Rect, area, clip_polygon
from varlen.pipeline.plan import Member, Resample


def responsible_steps(run: Resample, boxes: NDArray[np.float64], limits: Sequence[float]) -> list[str]:
    """For each box before the run the step from which on less than its limit is left; else the one that took most.

    boxes: (N, 4) float64; limits: N shares, 0 … 1.
    """
    members = run.members
    if len(members) == 1:
        return [members[0].step] * len(boxes)
    windows = [member.size.rect for member in members[:-1]] + [run.target_rect]
    if run.bends:
        moves = list(zip(members, windows, strict=True))
        shares = np.array([[_outline_share(member, box, window) for member, window in moves] for box in boxes.tolist()])
    else:
        shares = shares_left(np.array([member.matrix for member in members]), np.array(windows), boxes)
    return [members[place].step for place in responsible_members(shares, np.array(limits)).tolist()]


def _outline_share(member: Member, box: Rect, window: Rect) -> float:
    outline = member.outline(box)
    whole = area(outline)
    return area(clip_polygon(outline, window)) / whole if whole > 0.0 else 0.0


def shrinking_step(run: Resample | None) -> str:
    """The step of a run that shrinks most."""
    if run is None or not run.members:
        return SOURCE
    middle = (run.before.width / 2, run.before.height / 2)
    sizes = [1.0, *(math.sqrt(abs(member.area_factor(*middle))) for member in run.members)]
    ratios = [after / before for before, after in itertools.pairwise(sizes)]
    return run.members[ratios.index(min(ratios))].step
