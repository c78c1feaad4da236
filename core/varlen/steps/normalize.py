"""Levels as a network wants them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar, Literal

from varlen.model.geometry import Size
from varlen.steps.base import DrawContext, Drawn, Step
from varlen.steps.parameters import Levels, Scope, levels, scope

if TYPE_CHECKING:
    from varlen.draws import Stream


class Normalize(Step):
    """Shift and scale levels to mean 0 and deviation 1; in arrays for training only, pictures stay as they are."""

    kind: ClassVar[str] = "number"
    purpose: ClassVar[str] = "fit"

    step: Literal["normalize"] = "normalize"
    scope: Scope = scope("every")
    mean: Levels | None = levels(None, "level subtracted from each channel; default: the training split's mean", low=0, high=255)
    std: Levels | None = levels(None, "each channel is divided by this; default: the training split's standard deviation", low=0.001, high=255)
    shown: ClassVar[tuple[dict[str, Any], ...]] = ()

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {}

    def effect(self, drawn: Drawn, size: Size) -> None:
        """p → (p − mean) / std where arrays are made; nothing to a picture's 8-bit levels."""
        return None
