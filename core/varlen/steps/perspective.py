"""A change of viewpoint."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

from varlen.model.effects import Move
from varlen.model.geometry import Size, quad_from_square, scaling
from varlen.steps.base import DrawContext, Drawn, EdgedStep, Span, span

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
