"""A new size in pixels."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar, Literal

from varlen.model.effects import Move
from varlen.model.geometry import Size, scaling
from varlen.steps.base import LARGEST, DrawContext, Drawn, MoveStep, Rgb, Scope, color, option, scope, whole

if TYPE_CHECKING:
    from varlen.draws import Stream


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
