"""Gamma, warmth, channel gains and gray: pointwise changes of light and color."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar, Literal

from varlen.model.effects import Curve, Gray, Recolor
from varlen.model.geometry import Size
from varlen.steps.base import ColorStep, DrawContext, Drawn, Span, Within, option, probability, span, within
from varlen.steps.color_jitter import LUMA, saturation_matrix

if TYPE_CHECKING:
    from varlen.draws import Stream


class Gamma(ColorStep):
    """Lighten or darken the middle tones; black and white stay."""

    step: Literal["gamma"] = "gamma"
    exponent: Span = span((0.8, 1.25), "below 1: lighter", unit="power", low=0.1, high=10, slider=(0.4, 2.5), log=True)
    within: Within = within()

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"exponent": stream.factor(*self.exponent)}

    def effect(self, drawn: Drawn, size: Size) -> Curve:
        """p → 255 (p / 255) ^ exponent, for each channel."""
        import numpy as np

        # Rounding first hides the last bits, in which powers may differ between machines.
        levels = 255.0 * (np.arange(256) / 255.0) ** drawn["exponent"]
        return Curve(np.rint(levels.round(6)).astype(np.uint8).tobytes())


class Warmth(ColorStep):
    """Cooler or warmer light: blue gives way to red, lightness stays."""

    step: Literal["warmth"] = "warmth"
    shift: Span = span((-0.3, 0.3), "below 0: cooler; above 0: warmer", unit="of level", low=-0.9, high=0.9)

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"shift": stream.uniform(*self.shift)}

    def effect(self, drawn: Drawn, size: Size) -> Recolor:
        """(r, g, b) → ((1 + s) r, g, (1 − s) b) / k, with k = 0.299 (1 + s) + 0.587 + 0.114 (1 − s) so that a gray stays as light."""
        s = drawn["shift"]
        k = LUMA[0] * (1 + s) + LUMA[1] + LUMA[2] * (1 - s)
        return Recolor.gains((1 + s) / k, 1 / k, (1 - s) / k)


class ChannelGain(ColorStep):
    """Make each color channel independently stronger or weaker, as another sensor would."""

    step: Literal["channel_gain"] = "channel_gain"
    red_factor: Span = span((0.9, 1.1), "red times this", unit="×", low=0.05, high=10, slider=(0.5, 2), log=True)
    green_factor: Span = span((0.9, 1.1), "green times this", unit="×", low=0.05, high=10, slider=(0.5, 2), log=True)
    blue_factor: Span = span((0.9, 1.1), "blue times this", unit="×", low=0.05, high=10, slider=(0.5, 2), log=True)

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {
            "red_factor": stream.factor(*self.red_factor),
            "green_factor": stream.factor(*self.green_factor),
            "blue_factor": stream.factor(*self.blue_factor),
        }

    def effect(self, drawn: Drawn, size: Size) -> Recolor:
        """(r, g, b) → (red_factor · r, green_factor · g, blue_factor · b)."""
        return Recolor.gains(drawn["red_factor"], drawn["green_factor"], drawn["blue_factor"])


class Grayscale(ColorStep):
    """Take the color away; the picture keeps three equal channels, or is written with one."""

    step: Literal["grayscale"] = "grayscale"
    probability: float = probability(0.1)
    channels: Literal[3, 1] = option(3, "3: red, green and blue are equal; 1: pictures are written with one channel")
    shown: ClassVar[tuple[dict[str, Any], ...]] = ({"channels": 3},)

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {}

    def effect(self, drawn: Drawn, size: Size) -> Recolor | Gray:
        """(r, g, b) → (y, y, y), y = 0.299 r + 0.587 g + 0.114 b (ITU-R BT.601)."""
        return saturation_matrix(0.0) if self.channels == 3 else Gray()
