"""Where a plan's draws come from: the streams of a seed, or a trace that was written down."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol, TypedDict

from varlen.draws import Stream
from varlen.errors import RenderError
from varlen.pipeline.trace import StepRecord
from varlen.steps.base import DrawContext, Drawn, Step


class Part(TypedDict):
    """Which object a draw is for, when a step draws for each object: its image, its id there, and which of several copies."""

    image: str
    object: str
    copy: int


class Draws(Protocol):
    """Whether each step happens to one image, and with which values."""

    def step(self, step: Step, context: DrawContext, part: Part | None = None) -> tuple[bool, Drawn]:
        """One step's draw, or that for one object."""

    def partner(self, step: str, place: int, key: str) -> Draws:
        """The draws of the partner in `place` that `step` takes in; its draws depend on `key`."""


class FreshDraws:
    """Draws from the streams of (seed, image, variant, step): whether a step happens, then its values.

    key: what draws depend on, an image's key or its group's name; frame: what steps that draw anew for each frame of a group
    depend on, the image's own key.
    """

    def __init__(self, seed: int, key: str, variant: int, frame: str = "") -> None:
        self.seed, self.key, self.variant, self.frame = seed, key, variant, frame or key

    def step(self, step: Step, context: DrawContext, part: Part | None = None) -> tuple[bool, Drawn]:
        name = step.id if part is None else f"{step.id}\x1f{part['image']}\x1f{part['object']}\x1f{part['copy']}"
        stream = Stream(self.seed, self.frame if step.for_each_frame else self.key, self.variant, name)
        fired = stream.unit() < step.probability
        return fired, step.draw(stream, context)

    def partner(self, step: str, place: int, key: str) -> FreshDraws:
        tail = f"\x1f{step}\x1f{place}\x1f{key}"
        return FreshDraws(self.seed, self.key + tail, self.variant, self.frame + tail)


class ClipDraws:
    """One draw for all frames of a clip; steps that draw for each frame draw anew.

    Steps that look at objects, such as a crop around one, keep what they drew for the first frame. detail: whether all steps of the
    kind draw for each frame, whatever they say themselves.
    """

    def __init__(self, seed: int, key: str, variant: int, detail: bool = False) -> None:
        self.seed, self.key, self.variant, self.detail = seed, key, variant, detail
        self.frame = 0
        self._drawn: dict[str, tuple[bool, Drawn]] = {}
        self._partners: dict[tuple[str, int, str], ClipDraws] = {}

    def begin(self, frame: int) -> None:
        """Go on with another frame."""
        self.frame = frame
        for partner in self._partners.values():
            partner.begin(frame)

    def step(self, step: Step, context: DrawContext, part: Part | None = None) -> tuple[bool, Drawn]:
        anew = step.for_each_frame or (self.detail and step.kind == "detail")
        if part is None and not anew and step.id in self._drawn:
            return self._drawn[step.id]
        fresh = FreshDraws(self.seed, f"{self.key}\x1fframe\x1f{self.frame}" if anew and self.frame else self.key, self.variant)
        drawn = fresh.step(step, context, part)
        if part is None:
            self._drawn[step.id] = drawn
        return drawn

    def partner(self, step: str, place: int, key: str) -> ClipDraws:
        name = (step, place, key)
        if name not in self._partners:
            self._partners[name] = ClipDraws(self.seed, f"{self.key}\x1f{step}\x1f{place}\x1f{key}", self.variant, self.detail)
            self._partners[name].begin(self.frame)
        return self._partners[name]


class RecordedDraws:
    """Draws as a trace holds them: nothing is drawn again."""

    def __init__(self, steps: Sequence[StepRecord]) -> None:
        self._steps = {record["id"]: record for record in steps}

    def step(self, step: Step, context: DrawContext, part: Part | None = None) -> tuple[bool, Drawn]:
        record = self._record(step.id)
        if part is None:
            return record["fired"], record["drawn"]
        for each in record["drawn"]["objects"]:
            if all(each[name] == value for name, value in part.items()):
                return each["fired"], each["drawn"]
        raise RenderError(f"step {step.id}: the trace has no draw for object {part['object']} of {part['image']}")

    def partner(self, step: str, place: int, key: str) -> RecordedDraws:
        partners = self._record(step).get("partners", [])
        if place > len(partners):
            raise RenderError(f"step {step}: the trace names no partner {place}")
        return RecordedDraws(partners[place - 1]["steps"])

    def _record(self, step: str) -> StepRecord:
        if step not in self._steps:
            raise RenderError(f"step {step}: the trace has no draw of it")
        return self._steps[step]
