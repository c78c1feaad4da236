"""Smooth random displacement."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

from pydantic import model_validator

from varlen.model.bends import MAX_SHARE_WITHOUT_FOLD, DisplacementField
from varlen.model.effects import Bend
from varlen.model.geometry import Size
from varlen.steps.base import DrawContext, Drawn, MoveStep, Span, number, span, stream_key

if TYPE_CHECKING:
    from varlen.draws import Stream


class Elastic(MoveStep):
    """Bend the picture like soft cloth: smooth, random, never folding; its border stays where it is."""

    step: Literal["elastic"] = "elastic"
    strength_fraction: Span = span((0.0, 0.02), "largest displacement, as a share of the shorter side", unit="of side", low=0, high=0.12,
                                   slider=(0, 0.05))  # fmt: skip
    spacing_fraction: float = number(0.1, "size of the bends, as a share of the shorter side", unit="of side", low=0.02, high=0.25)

    @model_validator(mode="after")
    def _never_folds(self) -> Elastic:
        most = MAX_SHARE_WITHOUT_FOLD * self.spacing_fraction
        if self.strength_fraction[1] > most:
            raise ValueError(
                f"strength_fraction {self.strength_fraction[1]:g} would fold the picture with spacing_fraction {self.spacing_fraction:g}; "
                f"at most {most:g}"
            )
        return self

    def draws_differ(self) -> bool:
        """The field of displacements is drawn."""
        return True

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"strength_fraction": stream.uniform(*self.strength_fraction), "field": stream_key(stream)}

    def effect(self, drawn: Drawn, size: Size) -> Bend | None:
        shorter = min(size)
        strength = drawn["strength_fraction"] * shorter
        # Less than that no pixel moves visibly; and a picture of a few pixels can't be bent.
        if strength < 0.02 or shorter < 8:
            return None
        return Bend(DisplacementField(size, self.spacing_fraction * shorter, strength, drawn["field"]))
