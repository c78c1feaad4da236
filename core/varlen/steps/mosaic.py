"""Several pictures of one split, side by side."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar, Literal

from varlen.effects import Cell
from varlen.effects import Mosaic as MosaicEffect
from varlen.geometry import Size
from varlen.steps.base import DrawContext, Drawn, Span, Step, option, span, whole
from varlen.steps.crop import LARGEST

if TYPE_CHECKING:
    from varlen.draws import Stream


class Mosaic(Step):
    """Put the picture beside partners from its split; each brings its labels and its own earlier steps."""

    kind: ClassVar[str] = "composite"
    purpose: ClassVar[str] = "combine"

    step: Literal["mosaic"] = "mosaic"
    grid: Literal["2x2"] = option("2x2", "how many pictures across and down")
    centre_fraction: Span = span((0.35, 0.65), "where the pictures meet", unit="of side", low=0.1, high=0.9)
    tile_scale: Span = span((0.6, 1.2), "size of each picture relative to the canvas; at least its cell is filled", unit="×", low=0.1, high=4,
                            slider=(0.25, 2), log=True)  # fmt: skip
    width_px: int | None = whole(None, "width of the canvas; by itself: as the picture comes in", unit="px", low=2, high=LARGEST)
    height_px: int | None = whole(None, "height of the canvas; by itself: as the picture comes in", unit="px", low=2, high=LARGEST)

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        centre = [stream.uniform(*self.centre_fraction), stream.uniform(*self.centre_fraction)]
        tiles = []
        for place in range(4):
            tiles.append(
                {
                    "image": context.image if place == 0 else context.peers.pick(stream, context.image),
                    "scale": stream.factor(*self.tile_scale),
                    "x_fraction": stream.uniform(0, 1),
                    "y_fraction": stream.uniform(0, 1),
                }
            )
        # The picture itself may come to lie in any of the four cells.
        return {"centre": centre, "turn": stream.below(4), "tiles": tiles}

    def effect(self, drawn: Drawn, size: Size) -> MosaicEffect:
        canvas = Size(self.width_px or size.width, self.height_px or size.height)
        x = min(max(round(drawn["centre"][0] * canvas.width), 1), canvas.width - 1)
        y = min(max(round(drawn["centre"][1] * canvas.height), 1), canvas.height - 1)
        rects = [(0, 0, x, y), (x, 0, canvas.width, y), (x, y, canvas.width, canvas.height), (0, y, x, canvas.height)]
        cells = [
            Cell(tile["image"], rects[(place + drawn["turn"]) % 4], tile["scale"], tile["x_fraction"], tile["y_fraction"])
            for place, tile in enumerate(drawn["tiles"])
        ]
        return MosaicEffect(tuple(cells), canvas)
