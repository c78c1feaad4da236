"""What lenses, cameras and files do to a picture: blur, sharpening, noise, compression, low resolution."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

from varlen.model.geometry import Size
from varlen.steps.base import DetailStep, DrawContext, Drawn, stream_key, whole_between
from varlen.steps.parameters import Span, WholeSpan, Within, span, switch, whole_span, within

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from varlen.draws import Stream


#: A blur this narrow changes no 8-bit level.
NARROWEST = 0.15


class Blur(DetailStep):
    """Soften the picture as a lens slightly out of focus does (Gaussian)."""

    step: Literal["blur"] = "blur"
    sigma_px: Span = span((0.0, 1.5), "width of the blur (standard deviation)", unit="px", low=0, high=50, slider=(0, 6))
    within: Within = within()

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"sigma_px": stream.uniform(*self.sigma_px)}

    def values(self, drawn: Drawn, size: Size) -> Drawn | None:
        return drawn if drawn["sigma_px"] >= NARROWEST else None

    def apply(self, pixels: NDArray[np.uint8], values: Drawn) -> NDArray[np.uint8]:
        """Every pixel becomes the mean of its neighbours, weighted by exp(−d² / 2σ²)."""
        from varlen.kernels.blur import gaussian

        return gaussian(pixels, values["sigma_px"])

    def at_scale(self, values: Drawn, factor: float) -> Drawn:
        return {"sigma_px": values["sigma_px"] * factor}


class MotionBlur(DetailStep):
    """Smear the picture along a line, as a moving camera does."""

    step: Literal["motion_blur"] = "motion_blur"
    length_px: Span = span((3.0, 9.0), "length of the smear", unit="px", low=0, high=100, slider=(0, 40))
    degrees: Span = span((0.0, 180.0), "direction, counter-clockwise from level", unit="degrees", low=-360, high=360, slider=(0, 180))

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"length_px": stream.uniform(*self.length_px), "degrees": stream.uniform(*self.degrees)}

    def values(self, drawn: Drawn, size: Size) -> Drawn | None:
        return drawn if drawn["length_px"] > 1.0 else None

    def apply(self, pixels: NDArray[np.uint8], values: Drawn) -> NDArray[np.uint8]:
        """The mean along a line through every pixel, sampled bilinearly every half pixel."""
        from varlen.kernels.blur import motion_blur

        return motion_blur(pixels, values["length_px"], values["degrees"])

    def at_scale(self, values: Drawn, factor: float) -> Drawn:
        return {**values, "length_px": max(1.0, values["length_px"] * factor)}


class Sharpen(DetailStep):
    """Bring out edges by taking a blurred copy away (unsharp mask)."""

    step: Literal["sharpen"] = "sharpen"
    amount: Span = span((0.0, 0.6), "how much of the difference to the blurred copy is added", unit="×", low=0, high=10, slider=(0, 3))

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"amount": stream.uniform(*self.amount)}

    def values(self, drawn: Drawn, size: Size) -> Drawn | None:
        return drawn if drawn["amount"] > 0.0 else None

    def apply(self, pixels: NDArray[np.uint8], values: Drawn) -> NDArray[np.uint8]:
        """p → p + amount · (p − blurred p), blurred with σ = 1 px."""
        from varlen.kernels.blur import sharpen

        return sharpen(pixels, values["amount"])


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
        from varlen.kernels.camera import add_noise

        return add_noise(pixels, values["sigma_levels"], values["key"], values["per_channel"])


class Compress(DetailStep):
    """Show the blocks and halos of strong JPEG compression."""

    step: Literal["compress"] = "compress"
    quality: WholeSpan = whole_span((40, 90), "JPEG quality; lower is worse", unit="of 100", low=1, high=100)

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"quality": whole_between(*self.quality, stream)}

    def apply(self, pixels: NDArray[np.uint8], values: Drawn) -> NDArray[np.uint8]:
        """YCbCr with halved color, cosine transform of 8 × 8 blocks, rounding to the tables of ITU-T T.81 Annex K, and back."""
        from varlen.kernels.camera import jpeg_artifacts

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
