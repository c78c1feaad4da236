"""Rotation about the centre."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Literal

from pydantic import model_validator

from varlen.model.effects import Move
from varlen.model.geometry import Size, about, rotation, scaling
from varlen.steps.base import LARGEST, DrawContext, Drawn, EdgedStep, Span, Within, chosen_centre, later, option, span, whole, within

if TYPE_CHECKING:
    from varlen.draws import Stream


class Rotate(EdgedStep):
    """Turn the picture about its centre; positive degrees turn counter-clockwise as seen."""

    step: Literal["rotate"] = "rotate"
    degrees: Span = span((-10.0, 10.0), "angle, counter-clockwise", unit="degrees", low=-180, high=180, slider=(-45, 45))
    frame: Literal["keep", "grow", "zoom"] = option(
        "keep", "keep: same frame, corners are cut; grow: frame large enough for all; zoom: enlarged until no blank corner shows"
    )
    within: Within = within()
    centre_x_px: int | None = later(whole(None, "what stays in place, from the left; else the middle", unit="px", low=0, high=LARGEST))
    centre_y_px: int | None = later(whole(None, "what stays in place, from the top; else the middle", unit="px", low=0, high=LARGEST))

    @model_validator(mode="after")
    def _fits_the_object(self) -> Rotate:
        if self.frame != "keep" and (self.centre_x_px is not None or self.centre_y_px is not None):
            raise ValueError("a chosen centre needs frame: keep; the others put the picture's middle into the frame's middle")
        if self.within == "objects" and self.frame == "grow":
            raise ValueError("frame: grow can't be used within objects, whose boxes keep their size")
        return self

    @property
    def most_turn(self) -> float:
        return max(abs(end) for end in self.degrees)

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"degrees": stream.uniform(*self.degrees)}

    def effect(self, drawn: Drawn, size: Size) -> Move:
        turn = rotation(drawn["degrees"])
        width, height = size
        cos, sin = abs(turn.a), abs(turn.b)
        out = size
        if self.frame == "grow":
            # Less a hair, so that a quarter turn of whole pixels does not gain a column.
            out = Size(math.ceil(width * cos + height * sin - 1e-6), math.ceil(width * sin + height * cos - 1e-6))
        elif self.frame == "zoom":
            # The frame's own corners, turned back, must stay inside the enlarged picture.
            factor = max(cos + sin * height / width, cos + sin * width / height)
            turn = turn.then(scaling(factor, factor))
        centre = chosen_centre(size, self.centre_x_px, self.centre_y_px)
        matrix = about(turn, centre, to=centre if out == size else (out.width / 2, out.height / 2))
        return Move(matrix, out, self.edges, self.edge_color)
