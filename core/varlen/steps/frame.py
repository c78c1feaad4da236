"""Crop, resize and pad: what the frame holds, and its size in pixels."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any, ClassVar, Literal

from pydantic import model_validator

from varlen.errors import RenderError
from varlen.model.effects import Move
from varlen.model.geometry import Size, scaling, translation
from varlen.steps.base import DrawContext, Drawn, EdgedStep, MoveStep
from varlen.steps.parameters import LARGEST, Rgb, Scope, Span, color, later, number, option, scope, span, whole

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
    width_px: int = whole(512, "width of the window", unit="px", low=1, high=LARGEST, when={"mode": ["window", "random"], "size_by": ["px"]})
    height_px: int = whole(512, "height of the window", unit="px", low=1, high=LARGEST, when={"mode": ["window", "random"], "size_by": ["px"]})
    fraction: float = number(0.8, "share of each side that is kept", unit="of side", low=0.01, high=1, when={"mode": ["centre"]})
    area_fraction: Span = span((0.5, 1.0), "share of the area that is kept", unit="of area", low=0.01, high=1,
                               when={"mode": ["random"], "size_by": ["fraction"]})  # fmt: skip
    aspect: Span = span(
        (0.75, 1.33),
        "width over height of the part",
        unit="w/h",
        low=0.1,
        high=10,
        slider=(0.5, 2),
        log=True,
        when={"mode": ["random"], "size_by": ["fraction"]},
    )
    margin_fraction: Span = span(
        (0.2, 1.0), "room left on each side of the object, as a share of its longer side", unit="of object", low=0, high=20, slider=(0, 4),
        when={"mode": ["around_object"]},
    )  # fmt: skip
    size_by: Literal["fraction", "px"] = later(
        option("fraction", "a random part's size: fraction, a drawn share of the area; px, width_px × height_px", when={"mode": ["random"]})
    )
    beyond: Literal["refuse", "pad"] = later(
        option(
            "refuse",
            "a window that reaches beyond the picture: refuse it, or pad what is missing",
            when={"mode": ["window", "random"], "size_by": ["px"]},
        )
    )
    pad_color: Rgb = later(color((0, 0, 0), "the color of padding", when={"mode": ["window", "random"], "size_by": ["px"], "beyond": ["pad"]}))
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
        """(x, y) → (x − left, y − top): whole pixels, so no pixel is interpolated. Raises `RenderError` for a window that reaches beyond the
        picture.
        """
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


class Resize(MoveStep):
    """Bring every picture to one size in pixels, or one of its sides to a length."""

    purpose: ClassVar[str] = "fit"

    step: Literal["resize"] = "resize"
    scope: Scope = scope("every")
    width_px: int = whole(640, "width afterwards; with longest or shortest: that side afterwards", unit="px", low=1, high=LARGEST)
    height_px: int = whole(640, "height afterwards", unit="px", low=1, high=LARGEST, when={"fit": ["stretch", "letterbox", "cover"]})
    fit: Literal["stretch", "letterbox", "cover", "longest", "shortest"] = option(
        "letterbox",
        "stretch: to both sides, shape changes; letterbox: all of it, padded evenly; cover: fills the frame, the rest is cut evenly; "
        "longest, shortest: that side becomes width_px, shape is kept",
    )
    pad_color: Rgb = color((128, 128, 128), "the color of the padding", when={"fit": ["letterbox"]})

    shown: ClassVar[tuple[dict[str, Any], ...]] = tuple({"width_px": 480, "height_px": 480, "fit": fit} for fit in ("letterbox", "cover", "stretch"))

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {}

    def effect(self, drawn: Drawn, size: Size) -> Move:
        """(x, y) → (sx x + left, sy y + top): sx and sy alike but for stretch; letterbox puts the content in the middle, at whole pixels."""
        out = Size(self.width_px, self.height_px)
        across, down = out.width / size.width, out.height / size.height
        if self.fit in ("longest", "shortest"):
            side = max(size) if self.fit == "longest" else min(size)
            out = Size(*(max(1, round(length * self.width_px / side)) for length in size))
            across, down = out.width / size.width, out.height / size.height
        if self.fit not in ("letterbox", "cover"):
            return Move(scaling(across, down), out)
        factor = min(across, down) if self.fit == "letterbox" else max(across, down)
        # The content takes whole pixels, so the padding has sharp edges and labels fit exactly.
        width, height = max(1, round(size.width * factor)), max(1, round(size.height * factor))
        left, top = (out.width - width) // 2, (out.height - height) // 2
        matrix = scaling(width / size.width, height / size.height, left, top)
        if self.fit == "cover":
            return Move(matrix, out, cuts=True)
        window = (left, top, left + width, top + height) if (width, height) != out else None
        return Move(matrix, out, window=window, pad_color=self.pad_color)


class Pad(EdgedStep):
    """Enlarge the frame evenly on all sides, to a size or to the next multiple of one."""

    purpose: ClassVar[str] = "fit"

    step: Literal["pad"] = "pad"
    scope: Scope = scope("every")
    multiple_px: int | None = whole(None, "width and height become multiples of this", unit="px", low=1, high=4096)
    width_px: int | None = whole(None, "width afterwards; a wider picture stays as it is", unit="px", low=1, high=LARGEST)
    height_px: int | None = whole(None, "height afterwards; a higher picture stays as it is", unit="px", low=1, high=LARGEST)
    shown: ClassVar = ({"multiple_px": 500}, {"width_px": 1400, "height_px": 900}, {"multiple_px": 500, "edges": "mirror"})

    @model_validator(mode="after")
    def _one_or_the_other(self) -> Pad:
        if self.multiple_px is not None and (self.width_px is not None or self.height_px is not None):
            raise ValueError("multiple_px and width_px / height_px exclude each other")
        return self

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {}

    def effect(self, drawn: Drawn, size: Size) -> Move | None:
        """(x, y) → (x + left, y + top), left and top half of what is missing, rounded down; nothing where the picture is large enough."""
        # A step just added has neither size nor multiple: 32 is what most networks ask for.
        multiple = self.multiple_px or (32 if self.width_px is None and self.height_px is None else 1)
        wanted = Size(self.width_px or size.width, self.height_px or size.height)
        width, height = (-(-max(now, side) // multiple) * multiple for now, side in zip(size, wanted, strict=True))
        out = Size(width, height)
        if out == size:
            return None
        left, top = (width - size.width) // 2, (height - size.height) // 2
        if self.edges != "solid":
            return Move(translation(left, top), out, self.edges)
        window = (left, top, left + size.width, top + size.height)
        return Move(translation(left, top), out, window=window, pad_color=self.edge_color)
