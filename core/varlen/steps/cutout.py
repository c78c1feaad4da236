"""Hiding parts of the picture."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar, Literal

from varlen.model.effects import Cover
from varlen.model.geometry import Size
from varlen.steps.base import DrawContext, Drawn, Step, stream_key, whole_between
from varlen.steps.parameters import Rgb, Span, WholeSpan, Within, color, option, span, whole_span, within

if TYPE_CHECKING:
    from varlen.draws import Stream

#: How often another place is tried for an area that would touch an object.
TRIES = 24


class Cutout(Step):
    """Cover parts of the picture, so that objects must be known by what is left of them."""

    kind: ClassVar[str] = "cover"
    purpose: ClassVar[str] = "hide"

    step: Literal["cutout"] = "cutout"
    size_fraction: Span = span((0.05, 0.2), "width and height of an area, drawn one by one", unit="of side", low=0.005, high=0.9)
    count: WholeSpan = whole_span((1, 4), "number of areas", unit="areas", low=0, high=64, slider=(0, 12))
    fill: Literal["solid", "mean", "noise"] = option("solid", "solid: one color; mean: the picture's mean color; noise: random levels")
    fill_color: Rgb = color((128, 128, 128), "the color of solid areas", when={"fill": ["solid"]})
    keep_off: Literal["none", "objects"] = option(
        "none", "objects: areas that would touch a box are put elsewhere, or left out where there is no room"
    )
    within: Within = within()

    def draws_differ(self) -> bool:
        """Places are drawn, and the grain of areas filled with noise."""
        return True

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        areas = []
        taken = [seen.box for seen in context.objects()] if self.keep_off == "objects" else []
        width, height = context.size
        for _ in range(whole_between(*self.count, stream)):
            wide, high = stream.uniform(*self.size_fraction), stream.uniform(*self.size_fraction)
            for _ in range(TRIES if taken else 1):
                x, y = stream.uniform(0, 1 - wide), stream.uniform(0, 1 - high)
                area = (x * width - 1, y * height - 1, (x + wide) * width + 1, (y + high) * height + 1)
                if not any(box[0] < area[2] and area[0] < box[2] and box[1] < area[3] and area[1] < box[3] for box in taken):
                    areas.append([x, y, wide, high])
                    break
        return {"areas": areas, "key": stream_key(stream)}

    def effect(self, drawn: Drawn, size: Size) -> Cover | None:
        """Areas as shares of the sides (left, top, width, height), at whole pixels."""
        areas = []
        for x, y, wide, high in drawn["areas"]:
            x0, y0 = round(x * size.width), round(y * size.height)
            x1, y1 = min(max(round((x + wide) * size.width), x0 + 1), size.width), min(max(round((y + high) * size.height), y0 + 1), size.height)
            if x0 < x1 and y0 < y1:
                areas.append((x0, y0, x1, y1))
        return Cover(tuple(areas), self.fill, self.fill_color, drawn["key"]) if areas else None
