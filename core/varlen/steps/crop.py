"""Cutting out a part of the picture, always at whole pixels: no resampling is needed."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any, ClassVar, Literal

from pydantic import model_validator

from varlen.errors import RenderError
from varlen.model.effects import Move
from varlen.model.geometry import Size, translation
from varlen.steps.base import LARGEST, DrawContext, Drawn, MoveStep, Rgb, Scope, Span, color, later, number, option, scope, span, whole

if TYPE_CHECKING:
    from varlen.draws import Stream


class Crop(MoveStep):
    """Cut out a part of the picture: a fixed window, the centre, a random part, or the part around an object."""

    step: Literal["crop"] = "crop"
    mode: Literal["window", "centre", "random", "around_object"] = option(
        "random",
        "window: the same pixels of every image; centre: a share of each side; random: drawn area, shape and place; "
        "around_object: one object, drawn, stays whole",
    )
    left_px: int = whole(0, "left edge of the window", unit="px", low=0, high=LARGEST, when={"mode": ["window"]})
    top_px: int = whole(0, "top edge of the window", unit="px", low=0, high=LARGEST, when={"mode": ["window"]})
    width_px: int = whole(512, "width of the window", unit="px", low=1, high=LARGEST, when={"mode": ["window", "random"]})
    height_px: int = whole(512, "height of the window", unit="px", low=1, high=LARGEST, when={"mode": ["window", "random"]})
    fraction: float = number(0.8, "share of each side that is kept", unit="of side", low=0.01, high=1, when={"mode": ["centre"]})
    area_fraction: Span = span((0.5, 1.0), "share of the area that is kept", unit="of area", low=0.01, high=1, when={"mode": ["random"]})
    aspect: Span = span(
        (0.75, 1.33), "width over height of the part", unit="w/h", low=0.1, high=10, slider=(0.5, 2), log=True, when={"mode": ["random"]}
    )
    margin_fraction: Span = span(
        (0.2, 1.0), "room left on each side of the object, as a share of its longer side", unit="of object", low=0, high=20, slider=(0, 4),
        when={"mode": ["around_object"]},
    )  # fmt: skip
    size_by: Literal["fraction", "px"] = later(
        option("fraction", "a random part's size: fraction, a drawn share of the area; px, width_px × height_px", when={"mode": ["random"]})
    )
    beyond: Literal["refuse", "pad"] = later(
        option("refuse", "a window that reaches beyond the picture: refuse it, or pad what is missing", when={"mode": ["window", "random"]})
    )
    pad_color: Rgb = later(color((0, 0, 0), "the color of padding", when={"beyond": ["pad"]}))
    scope: Scope = scope("train")
    shown: ClassVar[tuple[dict[str, Any], ...]] = (
        {"mode": "centre", "fraction": 0.6},
        {"mode": "random", "area_fraction": (0.5, 0.5)},
        {"mode": "around_object"},
    )

    @model_validator(mode="before")
    @classmethod
    def _scope_by_mode(cls, data: Any) -> Any:
        """A fixed part is a decision about every image; a random part is variation."""
        if not isinstance(data, dict):
            return data
        # A random part whose sides are given in px, and nothing as a share, is meant to have these.
        pixels = data.get("mode", "random") == "random" and {"width_px", "height_px"} & data.keys() and not {"area_fraction", "aspect"} & data.keys()
        if pixels and "size_by" not in data:
            data = {**data, "size_by": "px"}
        if "scope" not in data:
            return {**data, "scope": "every" if data.get("mode") in ("window", "centre") else "train"}
        return data

    def draws_differ(self) -> bool:
        """The place is drawn, or the object."""
        return self.mode in ("random", "around_object")

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        if self.mode == "around_object":
            return self._drawn_around(stream, context)
        if self.mode != "random":
            return {}
        return {
            "area_fraction": stream.uniform(*self.area_fraction),
            "aspect": stream.factor(*self.aspect),
            "x_fraction": stream.uniform(0, 1),
            "y_fraction": stream.uniform(0, 1),
        }

    def _drawn_around(self, stream: Stream, context: DrawContext) -> Drawn:
        choice, margins = stream.unit(), [stream.uniform(*self.margin_fraction) for _ in range(4)]
        objects = context.objects()
        if not objects:
            return {"object": None}
        seen = objects[int(choice * len(objects))]
        longer = max(seen.box[2] - seen.box[0], seen.box[3] - seen.box[1])
        left, top, right, bottom = (margin * longer for margin in margins)
        box = [seen.box[0] - left, seen.box[1] - top, seen.box[2] + right, seen.box[3] + bottom]
        return {"object": {"image": seen.image, "id": seen.id}, "box_px": [round(value, 3) for value in box]}

    def effect(self, drawn: Drawn, size: Size) -> Move:
        left, top, width, height = self._part(drawn, size)
        if left >= 0 and top >= 0 and left + width <= size.width and top + height <= size.height:
            return Move(translation(-left, -top), Size(width, height), cuts=True)
        if self.beyond == "refuse":
            raise RenderError(f"step {self.id}: the window {width}×{height} px at ({left}, {top}) reaches beyond a picture of "
                              f"{size.width}×{size.height} px; make it smaller, or set beyond: pad")  # fmt: skip
        window = (max(-left, 0), max(-top, 0), min(size.width - left, width), min(size.height - top, height))
        return Move(translation(-left, -top), Size(width, height), cuts=True, window=window, pad_color=self.pad_color)

    def _part(self, drawn: Drawn, size: Size) -> tuple[int, int, int, int]:
        if self.mode == "window":
            if self.left_px >= size.width or self.top_px >= size.height:
                raise RenderError(
                    f"step {self.id}: the window starts at ({self.left_px}, {self.top_px}) px, outside a picture of {size.width}×{size.height} px"
                )
            return self.left_px, self.top_px, self.width_px, self.height_px
        if self.mode == "centre":
            width, height = max(1, round(size.width * self.fraction)), max(1, round(size.height * self.fraction))
            return (size.width - width) // 2, (size.height - height) // 2, width, height
        if self.mode == "around_object":
            if drawn["object"] is None:
                return 0, 0, size.width, size.height
            x0, y0, x1, y1 = drawn["box_px"]
            left, top = max(math.floor(x0), 0), max(math.floor(y0), 0)
            return left, top, max(min(math.ceil(x1), size.width) - left, 1), max(min(math.ceil(y1), size.height) - top, 1)
        if self.size_by == "px":
            # A picture smaller than the window is padded alike on both sides, where it is padded.
            left, top = (
                round(share * room) if room >= 0 else room // 2
                for share, room in ((drawn["x_fraction"], size.width - self.width_px), (drawn["y_fraction"], size.height - self.height_px))
            )
            return left, top, self.width_px, self.height_px
        target = drawn["area_fraction"] * size.width * size.height
        wide, high = math.sqrt(target * drawn["aspect"]), math.sqrt(target / drawn["aspect"])
        fit = min(1.0, size.width / wide, size.height / high)
        width, height = max(1, round(wide * fit)), max(1, round(high * fit))
        width, height = min(width, size.width), min(height, size.height)
        return round(drawn["x_fraction"] * (size.width - width)), round(drawn["y_fraction"] * (size.height - height)), width, height
