"""Shear, shift and scale: the frame stays, the picture in it moves."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Literal

from varlen.model.effects import Move
from varlen.model.geometry import Matrix, Size, about, scaling, translation
from varlen.steps.base import LARGEST, DrawContext, Drawn, EdgedStep, Span, chosen_centre, later, span, whole

if TYPE_CHECKING:
    from varlen.draws import Stream


class Shear(EdgedStep):
    """Slant the picture about its centre, as a camera that looks from the side does."""

    step: Literal["shear"] = "shear"
    x_degrees: Span = span((-8.0, 8.0), "slant of upright lines; positive leans their top to the right", unit="degrees", low=-60, high=60,
                           slider=(-30, 30))  # fmt: skip
    y_degrees: Span = span((0.0, 0.0), "slant of level lines; positive raises their right end", unit="degrees", low=-60, high=60,
                           slider=(-30, 30))  # fmt: skip

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"x_degrees": stream.uniform(*self.x_degrees), "y_degrees": stream.uniform(*self.y_degrees)}

    def effect(self, drawn: Drawn, size: Size) -> Move:
        """x → x − tan(x_degrees) y, then y → y − tan(y_degrees) x, about the centre, y pointing down."""
        across, down = math.tan(math.radians(drawn["x_degrees"])), math.tan(math.radians(drawn["y_degrees"]))
        slant = Matrix(b=-across).then(Matrix(d=-down))
        return Move(about(slant, (size.width / 2, size.height / 2)), size, self.edges, self.edge_color)


class Shift(EdgedStep):
    """Move the picture within its frame, by whole pixels."""

    step: Literal["shift"] = "shift"
    x_fraction: Span = span((-0.1, 0.1), "to the right, as a share of the width", unit="of width", low=-0.95, high=0.95, slider=(-0.5, 0.5))
    y_fraction: Span = span((-0.1, 0.1), "down, as a share of the height", unit="of height", low=-0.95, high=0.95, slider=(-0.5, 0.5))
    x_px: Span | None = later(span(None, "to the right in px, in place of the share", unit="px", low=-LARGEST, high=LARGEST, slider=(-200, 200)))
    y_px: Span | None = later(span(None, "down in px, in place of the share", unit="px", low=-LARGEST, high=LARGEST, slider=(-200, 200)))

    def draws_differ(self) -> bool:
        """Pixels, where given, stand in place of the share."""
        return any(low != high for low, high in (self.x_px or self.x_fraction, self.y_px or self.y_fraction))

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        drawn: Drawn = {}
        for side, pixels, share in (("x", self.x_px, self.x_fraction), ("y", self.y_px, self.y_fraction)):
            drawn[f"{side}_fraction" if pixels is None else f"{side}_px"] = stream.uniform(*(pixels or share))
        return drawn

    def effect(self, drawn: Drawn, size: Size) -> Move:
        x = drawn["x_px"] if "x_px" in drawn else drawn["x_fraction"] * size.width
        y = drawn["y_px"] if "y_px" in drawn else drawn["y_fraction"] * size.height
        return Move(translation(round(x), round(y)), size, self.edges, self.edge_color)


class Scale(EdgedStep):
    """Come closer or step back: the picture grows or shrinks about its centre, the frame stays."""

    step: Literal["scale"] = "scale"
    factor: Span = span((0.8, 1.25), "above 1: closer", unit="×", low=0.05, high=20, slider=(0.4, 2.5), log=True)
    stretch_factor: Span = span((1.0, 1.0), "width over height times this", unit="×", low=0.1, high=10, slider=(0.5, 2), log=True)
    centre_x_px: int | None = later(whole(None, "what stays in place, from the left; else the middle", unit="px", low=0, high=LARGEST))
    centre_y_px: int | None = later(whole(None, "what stays in place, from the top; else the middle", unit="px", low=0, high=LARGEST))

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"factor": stream.factor(*self.factor), "stretch_factor": stream.factor(*self.stretch_factor)}

    def effect(self, drawn: Drawn, size: Size) -> Move:
        """The area grows by factor², the aspect ratio by stretch_factor."""
        factor, stretch = drawn["factor"], math.sqrt(drawn["stretch_factor"])
        grown = about(scaling(factor * stretch, factor / stretch), chosen_centre(size, self.centre_x_px, self.centre_y_px))
        return Move(grown, size, self.edges, self.edge_color)
