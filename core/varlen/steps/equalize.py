"""Local contrast."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar, Literal

from varlen.model.geometry import Size
from varlen.steps.base import DetailStep, DrawContext, Drawn, Span, span, whole

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from varlen.draws import Stream


class Equalize(DetailStep):
    """Even out light and dark regions, so that detail shows in both (local contrast with a limit)."""

    purpose: ClassVar[str] = "light"

    step: Literal["equalize"] = "equalize"
    limit: Span = span((1.0, 3.0), "how steep contrast may become; 1 changes nothing", unit="×", low=1, high=20, slider=(1, 8), log=True)
    tiles: int = whole(8, "regions across and down", unit="tiles", low=1, high=64)

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"limit": stream.factor(*self.limit)}

    def values(self, drawn: Drawn, size: Size) -> Drawn | None:
        return {**drawn, "tiles": self.tiles} if drawn["limit"] > 1.0 else None

    def apply(self, pixels: NDArray[np.uint8], values: Drawn) -> NDArray[np.uint8]:
        """Lightness y = 0.299 r + 0.587 g + 0.114 b goes through a curve, and every channel is shifted by its change.

        Each region's curve is its cumulative histogram, every bin raised by the same amount and cut
        off at `limit` times the mean bin, so that no curve is steeper than `limit`; between the
        regions' centres curves are mixed bilinearly.
        """
        from varlen.kernels.equalize import equalize

        return equalize(pixels, values["tiles"], values["limit"])

    def at_scale(self, values: Drawn, factor: float) -> Drawn:
        return values
