"""A new size in pixels."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar, Literal

from varlen.effects import Move
from varlen.geometry import Size, scaling, translation
from varlen.steps.base import DrawContext, Drawn, MoveStep, Rgb, Scope, color, option, scope, whole
from varlen.steps.crop import LARGEST

if TYPE_CHECKING:
    from varlen.draws import Stream


class Resize(MoveStep):
    """Bring every picture to one size in pixels, stretched, letterboxed or filled."""

    purpose: ClassVar[str] = "fit"

    step: Literal["resize"] = "resize"
    scope: Scope = scope("every")
    width_px: int = whole(640, "width afterwards", unit="px", low=1, high=LARGEST)
    height_px: int = whole(640, "height afterwards", unit="px", low=1, high=LARGEST)
    fit: Literal["stretch", "letterbox", "cover"] = option(
        "letterbox", "stretch: to both sides, shape changes; letterbox: all of it, padded evenly; cover: fills the frame, the rest is cut evenly"
    )
    pad_color: Rgb = color((128, 128, 128), "the color of the padding", when={"fit": ["letterbox"]})

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {}

    def effect(self, drawn: Drawn, size: Size) -> Move:
        out = Size(self.width_px, self.height_px)
        across, down = out.width / size.width, out.height / size.height
        if self.fit == "stretch":
            return Move(scaling(across, down), out)
        factor = min(across, down) if self.fit == "letterbox" else max(across, down)
        # The content takes whole pixels, so the padding has sharp edges and labels fit exactly.
        width, height = max(1, round(size.width * factor)), max(1, round(size.height * factor))
        left, top = (out.width - width) // 2, (out.height - height) // 2
        matrix = scaling(width / size.width, height / size.height).then(translation(left, top))
        if self.fit == "cover":
            return Move(matrix, out, cuts=True)
        window = (left, top, left + width, top + height) if (width, height) != out else None
        return Move(matrix, out, window=window, pad_color=self.pad_color)
