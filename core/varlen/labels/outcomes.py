"""What became of each object: kept, clipped or dropped, why, and by which step."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.label_transforms import responsible_members, shares_left
from varlen.model.geometry import Rect, area, clip_polygon
from varlen.model.objects import Objects, join_objects
from varlen.pipeline.plan import Resample, StepTransform
from varlen.pipeline.trace import OutcomeRecord

SOURCE = "source"


@dataclass(frozen=True, slots=True)
class ObjectOutcome:
    """One object's end: its image and id, what happened, the reason and the step to blame."""

    image: str
    id: str
    outcome: Literal["clipped", "dropped"]
    reason: str
    step: str
    share: float

    def to_json(self) -> OutcomeRecord:
        """As written to a trace."""
        return {"id": self.id, "image": self.image, "reason": self.reason, "step": self.step, "share": round(self.share, 4)}


@dataclass(slots=True)
class LabelState:
    """The objects of a picture on its way through a plan, and what was lost so far.

    In step with the objects: `clipped`, the step that clipped or covered part of each most
    recently, and how; `small`, for those whose shorter side is under the limit at this
    point, the step that made it so.
    """

    objects: Objects
    dropped: list[ObjectOutcome] = field(default_factory=list)
    clipped: list[tuple[str, str] | None] = field(default_factory=list)
    small: list[str | None] = field(default_factory=list)

    @staticmethod
    def of(objects: Objects) -> LabelState:
        """Labels to which nothing has happened yet."""
        return LabelState(objects, [], [None] * len(objects), [None] * len(objects))

    def drop(self, place: int, reason: str, step: str, share: float) -> None:
        """Record the loss of one object; `keep` then leaves it out."""
        self.dropped.append(ObjectOutcome(self.objects.images[place], self.objects.ids[place], "dropped", reason, step, share))

    def keep(self, objects: Objects, places: list[int]) -> None:
        """Go on with `objects`, only those at `places`."""
        self.objects = objects.take(places)
        self.clipped = [self.clipped[place] for place in places]
        self.small = [self.small[place] for place in places]

    def take(self, places: list[int]) -> LabelState:
        """Only the objects at `places`, with no losses."""
        return LabelState(self.objects.take(places), [], [self.clipped[place] for place in places], [self.small[place] for place in places])

    def forget_unseen(self, step: str) -> None:
        """Leave out of the losses what a partner never brought along: its objects outside its cell."""
        self.dropped = [outcome for outcome in self.dropped if outcome.step != step or outcome.share > 0.0]

    @staticmethod
    def join(groups: list[LabelState]) -> LabelState:
        """The labels of several pictures as those of one."""
        return LabelState(
            join_objects([group.objects for group in groups]),
            [outcome for group in groups for outcome in group.dropped],
            [cut for group in groups for cut in group.clipped],
            [step for group in groups for step in group.small],
        )

    def outcomes(self) -> list[ObjectOutcome]:
        """The clipped objects still there, then the dropped ones."""
        objects = self.objects
        cut = [
            ObjectOutcome(objects.images[place], objects.ids[place], "clipped", cut[1], cut[0], float(objects.share[place]))
            for place, cut in enumerate(self.clipped)
            if cut is not None
        ]
        return cut + self.dropped


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


def _outline_share(member: StepTransform, box: Rect, window: Rect) -> float:
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
