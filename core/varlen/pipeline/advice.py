"""Advice that needs the pipeline alone: what its steps, or their order, do that is rarely intended."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any

from varlen.steps.base import Step

if TYPE_CHECKING:
    from varlen.pipeline.document import Pipeline


@dataclass(frozen=True, slots=True)
class Advice:
    """What was noticed. kind and step name it, so that it can be dismissed; step "" is the whole pipeline."""

    kind: str
    step: str
    says: str
    why: str

    def to_json(self) -> dict[str, Any]:
        """As plain values."""
        return asdict(self)


def advice_on_pipeline(pipeline: Pipeline) -> list[Advice]:
    """What can be said without a dataset, in the order of the steps."""
    steps = [step for step in pipeline.all_steps() if step.enabled]
    return [*_of_chance(steps), *_of_order(pipeline)]


def _of_chance(steps: Sequence[Step]) -> Iterator[Advice]:
    for step in steps:
        if step.scope == "every" and step.varies:
            yield Advice("random-everywhere", step.id, "A random step changes every split, evaluation included.",
                       "Scores on validation and test would depend on the draw; keep chance to the training split.")  # fmt: skip
        if step.scope == "train" and step.probability == 1 and not step.draws_differ() and step.kind != "junction":
            yield Advice("never-varies", step.id, "It changes every training image in the same way.",
                       "Training would see only that, evaluation never: give it a range or a probability, or apply it to every split.")  # fmt: skip


def _of_order(pipeline: Pipeline) -> Iterator[Advice]:
    on = [step for step in pipeline.steps if step.enabled]
    for place, step in enumerate(on):
        later = on[place + 1 :]
        if step.step == "resize" and any(other.kind == "geometry" and other.step not in ("resize", "pad", "crop") for other in later):
            yield Advice("resize-early", step.id, "The picture is made smaller before it is moved.",
                       "Steps after it work with fewer pixels, and what they expose can't be filled from the larger picture.")  # fmt: skip
        # A matched step has its amount from pictures that were resized after their noise, too.
        matched = step.id.startswith("match-")
        if step.step == "noise" and not matched and any(other.step == "resize" for other in later):
            yield Advice("noise-resized", step.id, "Noise is averaged away by the resize after it.",
                       "A sensor's noise is there at the size the model sees; put it after the resize.")  # fmt: skip
        if step.step == "compress" and any(other.step == "noise" for other in later):
            yield Advice("noise-late", step.id, "Noise comes after the compression.", "A camera compresses what its sensor saw, noise included.")
