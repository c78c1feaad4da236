"""A larger frame around the picture."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar, Literal

from pydantic import model_validator

from varlen.model.effects import Move
from varlen.model.geometry import Size, translation
from varlen.steps.base import LARGEST, DrawContext, Drawn, EdgedStep, Scope, scope, whole

if TYPE_CHECKING:
    from varlen.draws import Stream


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
