"""Two pictures in one."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar, Literal

from varlen.model.effects import Mix
from varlen.model.geometry import Size
from varlen.steps.base import DrawContext, Drawn, Span, Step, span

if TYPE_CHECKING:
    from varlen.draws import Stream


class Mixup(Step):
    """Let a partner from the same split shine through; objects of both are kept, the weight is recorded."""

    kind: ClassVar[str] = "composite"
    purpose: ClassVar[str] = "combine"

    step: Literal["mixup"] = "mixup"
    weight: Span = span((0.3, 0.7), "the picture's own share", unit="of level", low=0, high=1)

    def draws_differ(self) -> bool:
        """The partner is drawn."""
        return True

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"weight": stream.uniform(*self.weight), "image": context.peers().pick(stream, context.image)}

    def effect(self, drawn: Drawn, size: Size) -> Mix:
        """p → w p + (1 − w) q, the partner q filling the frame, centred."""
        return Mix(drawn["image"], drawn["weight"])
