"""Gaussian blur."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar, Literal

from varlen.effects import Blur as BlurEffect
from varlen.geometry import Size
from varlen.steps.base import DrawContext, Drawn, Span, Step, span

if TYPE_CHECKING:
    from varlen.draws import Stream

#: A blur this narrow changes no 8-bit level.
NARROWEST = 0.15


class Blur(Step):
    """Soften the picture as a lens slightly out of focus does (Gaussian)."""

    kind: ClassVar[str] = "detail"
    purpose: ClassVar[str] = "texture"

    step: Literal["blur"] = "blur"
    sigma_px: Span = span((0.0, 1.5), "width of the blur (standard deviation)", unit="px", low=0, high=50, slider=(0, 6))

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"sigma_px": stream.uniform(*self.sigma_px)}

    def effect(self, drawn: Drawn, size: Size) -> BlurEffect | None:
        return BlurEffect(drawn["sigma_px"]) if drawn["sigma_px"] >= NARROWEST else None
