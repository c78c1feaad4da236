"""Local contrast, light from one side, and soft shadows."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar, Literal

from varlen.model.geometry import Size
from varlen.steps.base import DetailStep, DrawContext, Drawn, whole_between
from varlen.steps.parameters import Span, WholeSpan, span, whole, whole_span

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


class Relight(DetailStep):
    """Light the picture from one side and cast soft shadows on it."""

    purpose: ClassVar[str] = "light"

    step: Literal["relight"] = "relight"
    strength: Span = span((0.0, 0.4), "how uneven the light is", unit="of level", low=0, high=0.9)
    angle_degrees: Span = span((0.0, 360.0), "where the light comes from, counter-clockwise from the right", unit="degrees", low=-360, high=360,
                               slider=(0, 360))  # fmt: skip
    shadows: WholeSpan = whole_span((0, 2), "how many shadows fall on the picture", unit="shadows", low=0, high=8)

    def draws_differ(self) -> bool:
        """The places of shadows are drawn, where there are any."""
        return self.shadows[1] > 0 or super().draws_differ()

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        drawn = {"strength": stream.uniform(*self.strength), "angle_degrees": stream.uniform(*self.angle_degrees)}
        shadows = [
            {
                "x_fraction": stream.uniform(0, 1),
                "y_fraction": stream.uniform(0, 1),
                "length_fraction": stream.uniform(0.2, 0.6),
                "breadth_fraction": stream.uniform(0.08, 0.25),
                "degrees": stream.uniform(0, 180),
            }
            for _ in range(whole_between(*self.shadows, stream))
        ]
        return {**drawn, "shadows": shadows}

    def values(self, drawn: Drawn, size: Size) -> Drawn | None:
        return drawn if drawn["strength"] > 0.0 else None

    def apply(self, pixels: NDArray[np.uint8], values: Drawn) -> NDArray[np.uint8]:
        """p → p (1 + s u) Π (1 − s k): u runs from −1 to 1 along the light's direction across the diagonal; k of each
        shadow, an ellipse, goes smoothly from 1 inside 0.6 of its radius to 0 at 1.4 of it (3t² − 2t³)."""
        from varlen.kernels.camera import relight

        return relight(pixels, values["strength"], values["angle_degrees"], values["shadows"])

    def at_scale(self, values: Drawn, factor: float) -> Drawn:
        return values
