"""What became of each object: kept, clipped or dropped, why, and by which step."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from varlen.model.objects import Objects, join_objects
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
