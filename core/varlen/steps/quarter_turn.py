"""Turns by right angles."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal

from pydantic import BeforeValidator

from varlen.model.effects import Move
from varlen.model.geometry import Matrix, Size
from varlen.steps.base import DrawContext, Drawn, MoveStep, several

if TYPE_CHECKING:
    from varlen.draws import Stream

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
