"""Flips, turns, shear, shift and scale: the whole picture moves as one."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal

from pydantic import BeforeValidator, model_validator

from varlen.model.effects import Move
from varlen.model.geometry import Matrix, Size, about, rotation, scaling, translation
from varlen.steps.base import DrawContext, Drawn, EdgedStep, MoveStep, chosen_centre
from varlen.steps.parameters import LARGEST, Span, Within, later, option, probability, several, span, whole, within

if TYPE_CHECKING:
    from varlen.draws import Stream


class Flip(MoveStep):
    """Mirror the picture left to right, top to bottom, or both; mirror pairs of keypoints change names."""

    step: Literal["flip"] = "flip"
    probability: float = probability(0.5)
    direction: Literal["horizontal", "vertical", "either", "both"] = option(
        "horizontal", "horizontal: left and right change places; either: one of the two, drawn; both: a half turn"
    )
    within: Within = within()
    shown: ClassVar[tuple[dict[str, Any], ...]] = ({"direction": "horizontal"}, {"direction": "vertical"}, {"direction": "both"})

    def draws_differ(self) -> bool:
        return self.direction == "either"

    @property
    def mirrors(self) -> frozenset[str]:
        return frozenset(("horizontal", "vertical") if self.direction == "either" else (self.direction,))

    @property
    def most_turn(self) -> float:
        """Upside down is as far from upright as a half turn."""
        return 180.0 if self.mirrors & {"vertical", "both"} else 0.0

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        drawn = stream.pick(("horizontal", "vertical"))
        return {"direction": drawn if self.direction == "either" else self.direction}

    def effect(self, drawn: Drawn, size: Size) -> Move:
        """x → W − x and / or y → H − y: pixel centres land on pixel centres."""
        across = drawn["direction"] in ("horizontal", "both")
        down = drawn["direction"] in ("vertical", "both")
        matrix = Matrix(
            -1.0 if across else 1.0, 0.0, float(size.width) if across else 0.0,
            0.0, -1.0 if down else 1.0, float(size.height) if down else 0.0,
        )  # fmt: skip
        return Move(matrix, size)


Turns = Annotated[tuple[Literal[1, 2, 3], ...], BeforeValidator(lambda v: tuple(sorted(set(v))) if isinstance(v, (list, tuple)) else v)]


class QuarterTurn(MoveStep):
    """Turn the picture by a quarter, a half or three quarters; every pixel is kept as it is."""

    step: Literal["quarter_turn"] = "quarter_turn"
    turns: Turns = several((1, 2, 3), "how many quarter turns counter-clockwise; one of them is drawn", (1, 2, 3))
    shown: ClassVar[tuple[dict[str, Any], ...]] = ({"turns": [1]}, {"turns": [2]}, {"turns": [3]})

    def draws_differ(self) -> bool:
        return len(self.turns) > 1

    @property
    def most_turn(self) -> float:
        return 180.0 if 2 in self.turns else 90.0

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"turns": stream.pick(self.turns)}

    def effect(self, drawn: Drawn, size: Size) -> Move:
        """One quarter counter-clockwise: (x, y) → (y, W − x)."""
        width, height = float(size.width), float(size.height)
        match drawn["turns"]:
            case 1:
                return Move(Matrix(0.0, 1.0, 0.0, -1.0, 0.0, width), Size(size.height, size.width))
            case 2:
                return Move(Matrix(-1.0, 0.0, width, 0.0, -1.0, height), size)
            case _:
                return Move(Matrix(0.0, -1.0, height, 1.0, 0.0, 0.0), Size(size.height, size.width))


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
        """x → c + R (x − c): R the rotation by the angle, c the picture's middle or the chosen centre, px, y pointing down; zoom enlarges until no
        corner is blank.
        """
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
        """(x, y) → (x + round(dx), y + round(dy)): whole pixels, so no pixel is interpolated."""
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
