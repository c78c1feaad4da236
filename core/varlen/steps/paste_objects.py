"""Objects of other pictures laid over this one."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar, Literal

from varlen.model.effects import Paste, PasteSource
from varlen.model.geometry import Size
from varlen.steps.base import DrawContext, Drawn, Span, Step, WholeSpan, span, whole_between, whole_span

if TYPE_CHECKING:
    from varlen.draws import Stream


class PasteObjects(Step):
    """Cut objects with an outline or a mask out of partners and lay them over the picture."""

    kind: ClassVar[str] = "composite"
    purpose: ClassVar[str] = "combine"

    step: Literal["paste_objects"] = "paste_objects"
    scale_factor: Span = span((0.8, 1.2), "size of the objects, times their own", unit="×", low=0.05, high=10, slider=(0.4, 2.5), log=True)
    count: WholeSpan = whole_span((1, 3), "number of objects", unit="objects", low=0, high=32, slider=(0, 10))

    def draws_differ(self) -> bool:
        """Partners, objects and places are drawn, where there are any."""
        return self.count[1] > 0

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {
            "guests": [
                {
                    "image": context.peers().pick(stream, context.image),
                    "choice": stream.uniform(0, 1),
                    "scale_factor": stream.factor(*self.scale_factor),
                    "x_fraction": stream.uniform(0, 1),
                    "y_fraction": stream.uniform(0, 1),
                }
                for _ in range(whole_between(*self.count, stream))
            ]
        }

    def effect(self, drawn: Drawn, size: Size) -> Paste | None:
        guests = [
            PasteSource(each["image"], each["choice"], each["scale_factor"], each["x_fraction"], each["y_fraction"]) for each in drawn["guests"]
        ]
        return Paste(tuple(guests)) if guests else None
