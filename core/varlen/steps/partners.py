"""Steps that bring in other pictures of the split: mosaic, mixup, pasted objects."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar, Literal

from varlen.model.effects import Mix, MosaicCell, Paste, PasteSource
from varlen.model.effects import Mosaic as MosaicEffect
from varlen.model.geometry import Size
from varlen.steps.base import DrawContext, Drawn, Step, whole_between
from varlen.steps.parameters import LARGEST, Span, WholeSpan, option, span, whole, whole_span

if TYPE_CHECKING:
    from varlen.draws import Stream


Area = tuple[int, int, int, int]


class Mosaic(Step):
    """Put the picture beside partners from its split; each brings its labels and its own earlier steps."""

    kind: ClassVar[str] = "composite"
    purpose: ClassVar[str] = "combine"

    step: Literal["mosaic"] = "mosaic"
    grid: Literal["2x2", "3x3"] = option("2x2", "how many pictures across and down")
    centre_fraction: Span = span(
        (0.35, 0.65), "where the four pictures meet; in a 3x3, the middle of the middle one", unit="of side", low=0.1, high=0.9
    )
    tile_scale: Span = span((0.6, 1.2), "size of each picture relative to the canvas; at least its cell is filled", unit="×", low=0.1, high=4,
                            slider=(0.25, 2), log=True)  # fmt: skip
    width_px: int | None = whole(None, "width of the canvas; default: that of the incoming picture", unit="px", low=2, high=LARGEST)
    height_px: int | None = whole(None, "height of the canvas; default: that of the incoming picture", unit="px", low=2, high=LARGEST)
    shown: ClassVar[tuple[dict[str, Any], ...]] = (
        {"grid": "2x2", "tile_scale": (0.6, 0.6)},
        {"grid": "2x2", "tile_scale": (1.2, 1.2)},
        {"grid": "3x3"},
    )

    def draws_differ(self) -> bool:
        """Partners and their places are drawn."""
        return True

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        centre = [stream.uniform(*self.centre_fraction), stream.uniform(*self.centre_fraction)]
        count = 4 if self.grid == "2x2" else 9
        tiles = []
        for place in range(count):
            tiles.append(
                {
                    "image": context.image if place == 0 else context.peers().pick(stream, context.image),
                    "scale": stream.factor(*self.tile_scale),
                    "x_fraction": stream.uniform(0, 1),
                    "y_fraction": stream.uniform(0, 1),
                }
            )
        # The picture itself may come to lie in any of the cells.
        return {"centre": centre, "turn": stream.below(count), "tiles": tiles}

    def effect(self, drawn: Drawn, size: Size) -> MosaicEffect:
        """Each picture fills its cell, tile_scale times its size relative to the canvas and at least as large as the cell; cells meet at the drawn
        centre.
        """
        least = int(self.grid[0])  # a pixel for every cell
        canvas = Size(max(self.width_px or size.width, least), max(self.height_px or size.height, least))
        rects = _quarters(drawn["centre"], canvas) if self.grid == "2x2" else _ninths(drawn["centre"], canvas)
        cells = [
            MosaicCell(tile["image"], rects[(place + drawn["turn"]) % len(rects)], tile["scale"], tile["x_fraction"], tile["y_fraction"])
            for place, tile in enumerate(drawn["tiles"])
        ]
        return MosaicEffect(tuple(cells), canvas)


def _quarters(centre: list[float], canvas: Size) -> list[Area]:
    """Clockwise from the top left."""
    x, y = (min(max(round(share * side), 1), side - 1) for share, side in zip(centre, canvas, strict=True))
    return [(0, 0, x, y), (x, 0, canvas.width, y), (x, y, canvas.width, canvas.height), (0, y, x, canvas.height)]


def _ninths(centre: list[float], canvas: Size) -> list[Area]:
    """Row by row; the middle one takes a third of each side."""
    lines = []
    for share, side in zip(centre, canvas, strict=True):
        first = min(max(round((share - 1 / 6) * side), 1), side - 2)
        lines.append([0, first, min(max(round((share + 1 / 6) * side), first + 1), side - 1), side])
    (xs, ys) = lines
    return [(xs[column], ys[row], xs[column + 1], ys[row + 1]) for row in range(3) for column in range(3)]


class Mixup(Step):
    """Let a partner from the same split shine through; objects of both are kept, the weight is recorded."""

    kind: ClassVar[str] = "composite"
    purpose: ClassVar[str] = "combine"

    step: Literal["mixup"] = "mixup"
    weight: Span = span((0.3, 0.7), "the picture's own share", unit="of level", low=0, high=1)

    def draws_differ(self) -> bool:
        """The partner is drawn."""
        return True

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"weight": stream.uniform(*self.weight), "image": context.peers().pick(stream, context.image)}

    def effect(self, drawn: Drawn, size: Size) -> Mix:
        """p → w p + (1 − w) q, the partner q filling the frame, centred."""
        return Mix(drawn["image"], drawn["weight"])


class PasteObjects(Step):
    """Cut objects with an outline or a mask out of partners and lay them over the picture."""

    kind: ClassVar[str] = "composite"
    purpose: ClassVar[str] = "combine"

    step: Literal["paste_objects"] = "paste_objects"
    scale_factor: Span = span((0.8, 1.2), "size of the objects, times their own", unit="×", low=0.05, high=10, slider=(0.4, 2.5), log=True)
    count: WholeSpan = whole_span((1, 3), "number of objects", unit="objects", low=0, high=32, slider=(0, 10))

    def draws_differ(self) -> bool:
        """Partners, objects and places are drawn, where there are any."""
        return self.count[1] > 0

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {
            "guests": [
                {
                    "image": context.peers().pick(stream, context.image),
                    "choice": stream.uniform(0, 1),
                    "scale_factor": stream.factor(*self.scale_factor),
                    "x_fraction": stream.uniform(0, 1),
                    "y_fraction": stream.uniform(0, 1),
                }
                for _ in range(whole_between(*self.count, stream))
            ]
        }

    def effect(self, drawn: Drawn, size: Size) -> Paste | None:
        """Each object keeps its shape, scale_factor times its size, and is laid at the drawn place, shares of the free room; later ones cover
        earlier ones.
        """
        guests = [
            PasteSource(each["image"], each["choice"], each["scale_factor"], each["x_fraction"], each["y_fraction"]) for each in drawn["guests"]
        ]
        return Paste(tuple(guests)) if guests else None
