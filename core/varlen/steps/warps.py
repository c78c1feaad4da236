"""Perspective, and smooth random displacement."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

from pydantic import model_validator

from varlen.model.effects import MAX_SHARE_WITHOUT_FOLD, Bend, DisplacementField, Move
from varlen.model.geometry import Size, quad_from_square, scaling
from varlen.steps.base import DrawContext, Drawn, EdgedStep, MoveStep, stream_key
from varlen.steps.parameters import Span, number, span

if TYPE_CHECKING:
    from varlen.draws import Stream


class Perspective(EdgedStep):
    """Look at the picture from another place: each corner moves independently, straight lines stay straight."""

    step: Literal["perspective"] = "perspective"
    # Beyond a quarter the four corners might no longer be those of a convex shape.
    corner_fraction: Span = span((0.0, 0.06), "how far the corners move, as a share of the sides", unit="of side", low=0, high=0.2)

    def draws_differ(self) -> bool:
        """Corners move independently within the drawn reach."""
        return self.corner_fraction[1] > 0

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        reach = stream.uniform(*self.corner_fraction)
        return {"corners": [[stream.uniform(-reach, reach), stream.uniform(-reach, reach)] for _ in range(4)]}

    def effect(self, drawn: Drawn, size: Size) -> Move:
        """The corners, in turn from the top left, go to (x + dx W, y + dy H)."""
        width, height = size
        places = ((0, 0), (1, 0), (1, 1), (0, 1))
        corners = [((x + dx) * width, (y + dy) * height) for (x, y), (dx, dy) in zip(places, drawn["corners"], strict=True)]
        return Move(scaling(1 / width, 1 / height).then(quad_from_square(corners)), size, self.edges, self.edge_color)


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
        """x → x + d(x): d a smooth field of cubic B-splines, at most strength_fraction of the shorter side and zero at the border; nothing for less
        than 1/50 px.
        """
        shorter = min(size)
        strength = drawn["strength_fraction"] * shorter
        # Less than that no pixel moves visibly; and a picture of a few pixels can't be bent.
        if strength < 0.02 or shorter < 8:
            return None
        return Bend(DisplacementField(size, self.spacing_fraction * shorter, strength, drawn["field"]))
