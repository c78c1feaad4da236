"""Mirror images."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar, Literal

from varlen.model.effects import Move
from varlen.model.geometry import Matrix, Size
from varlen.steps.base import DrawContext, Drawn, MoveStep, Within, option, probability, within

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
