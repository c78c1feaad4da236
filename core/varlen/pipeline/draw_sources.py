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
    """Draws from the streams of (seed, image, variant, step): whether a step happens, then its values."""

    def __init__(self, seed: int, key: str, variant: int) -> None:
        self.seed, self.key, self.variant = seed, key, variant

    def step(self, step: Step, context: DrawContext, part: Part | None = None) -> tuple[bool, Drawn]:
        name = step.id if part is None else f"{step.id}\x1f{part['image']}\x1f{part['object']}\x1f{part['copy']}"
        stream = Stream(self.seed, self.key, self.variant, name)
        fired = stream.unit() < step.probability
        return fired, step.draw(stream, context)

    def partner(self, step: str, place: int, key: str) -> FreshDraws:
        return FreshDraws(self.seed, f"{self.key}\x1f{step}\x1f{place}\x1f{key}", self.variant)


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
