"""What cameras and files do to a picture: noise, compression, low resolution."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

from varlen.model.geometry import Size
from varlen.steps.base import DetailStep, DrawContext, Drawn, Span, WholeSpan, Within, span, stream_key, switch, whole_between, whole_span, within

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from varlen.draws import Stream


class Noise(DetailStep):
    """Add the grain of a sensor (Gaussian)."""

    step: Literal["noise"] = "noise"
    sigma_levels: Span = span((0.0, 10.0), "standard deviation", unit="levels", low=0, high=128, slider=(0, 50))
    per_channel: bool = switch(True, "colored grain: drawn for red, green and blue by themselves; otherwise gray grain")
    within: Within = within()

    def draws_differ(self) -> bool:
        """The grain itself is drawn."""
        return True

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"sigma_levels": stream.uniform(*self.sigma_levels), "key": stream_key(stream)}

    def values(self, drawn: Drawn, size: Size) -> Drawn | None:
        return {**drawn, "per_channel": self.per_channel} if drawn["sigma_levels"] > 0.0 else None

    def apply(self, pixels: NDArray[np.uint8], values: Drawn) -> NDArray[np.uint8]:
        """p → p + σ z, z near to standard normal: the sum of four even 16-bit numbers, within ± 3.46."""
        from varlen.kernels.noise import add_noise

        return add_noise(pixels, values["sigma_levels"], values["key"], values["per_channel"])


class Compress(DetailStep):
    """Show the blocks and halos of strong JPEG compression."""

    step: Literal["compress"] = "compress"
    quality: WholeSpan = whole_span((40, 90), "JPEG quality; lower is worse", unit="of 100", low=1, high=100)

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"quality": whole_between(*self.quality, stream)}

    def apply(self, pixels: NDArray[np.uint8], values: Drawn) -> NDArray[np.uint8]:
        """YCbCr with halved color, cosine transform of 8 × 8 blocks, rounding to the tables of ITU-T T.81 Annex K, and back."""
        from varlen.kernels.jpeg_artifacts import jpeg_artifacts

        return jpeg_artifacts(pixels, values["quality"])


class Coarsen(DetailStep):
    """Make the picture smaller and large again, as a camera of lower resolution sees it."""

    step: Literal["coarsen"] = "coarsen"
    factor: Span = span((0.4, 0.9), "resolution, as a share of the picture's own", unit="×", low=0.02, high=1)

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"factor": stream.factor(*self.factor)}

    def values(self, drawn: Drawn, size: Size) -> Drawn | None:
        return drawn if drawn["factor"] < 1.0 else None

    def apply(self, pixels: NDArray[np.uint8], values: Drawn) -> NDArray[np.uint8]:
        """Averaged down to round(factor · side), then interpolated bilinearly."""
        from varlen.kernels.resample import shrunk

        height, width = pixels.shape[:2]
        small = shrunk(pixels, max(1, round(width * values["factor"])), max(1, round(height * values["factor"])))
        return shrunk(small, width, height)
