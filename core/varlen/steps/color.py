"""Brightness, contrast, saturation and hue, together or alone, gamma, warmth, channel gains and gray: pointwise changes of light and color."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any, ClassVar, Literal

from varlen.model.effects import Curve, Gray, Recolor
from varlen.model.geometry import Size
from varlen.steps.base import ColorStep, DrawContext, Drawn
from varlen.steps.parameters import Span, Within, option, probability, span, within

if TYPE_CHECKING:
    from varlen.draws import Stream


#: Share of red, green and blue in perceived lightness (ITU-R BT.601).
LUMA = (0.299, 0.587, 0.114)
#: The level that contrast leaves alone.
MIDDLE = 127.5


class ColorJitter(ColorStep):
    """Vary brightness, contrast, saturation and hue together; each alone is a step of its own."""

    step: Literal["color_jitter"] = "color_jitter"
    brightness_factor: Span = span((0.8, 1.25), "all levels times this", unit="×", low=0, high=10, slider=(0.4, 2.5), log=True)
    contrast_factor: Span = span((0.8, 1.25), "distance from middle gray times this", unit="×", low=0.05, high=10, slider=(0.4, 2.5), log=True)
    saturation_factor: Span = span((0.75, 1.33), "distance from gray times this", unit="×", low=0.01, high=10, slider=(0.25, 4), log=True)
    hue_degrees: Span = span((-8.0, 8.0), "turn of the color circle", unit="degrees", low=-180, high=180, slider=(-45, 45))
    within: Within = within()

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {
            "brightness_factor": stream.factor(*self.brightness_factor),
            "contrast_factor": stream.factor(*self.contrast_factor),
            "saturation_factor": stream.factor(*self.saturation_factor),
            "hue_degrees": stream.uniform(*self.hue_degrees),
        }

    def effect(self, drawn: Drawn, size: Size) -> Recolor:
        """Hue, then saturation, then contrast, then brightness.

        With p = (red, green, blue) in 0-255 levels and gray(p) = LUMA · p:
          hue         p → R p, R the rotation by the angle about the gray axis (1, 1, 1) (Rodrigues' formula)
          saturation  p → gray(p) + s (p − gray(p))
          contrast    p → 127.5 + c (p − 127.5)
          brightness  p → b p
        """
        s, c, b = drawn["saturation_factor"], drawn["contrast_factor"], drawn["brightness_factor"]
        return hue_matrix(drawn["hue_degrees"]).then(saturation_matrix(s)).then(contrast_matrix(c)).then(Recolor.gains(b, b, b))


def saturation_matrix(saturation: float) -> Recolor:
    """p → gray(p) + saturation · (p − gray(p))."""
    fade = [(1 - saturation) * LUMA[column] + (saturation if row == column else 0.0) for row in range(3) for column in range(3)]
    return Recolor((*fade[0:3], 0.0, *fade[3:6], 0.0, *fade[6:9], 0.0))


def hue_matrix(degrees: float) -> Recolor:
    """The rotation by `degrees` about the gray axis."""
    cos, sin = math.cos(math.radians(degrees)), math.sin(math.radians(degrees))
    same, rest = cos + (1 - cos) / 3, (1 - cos) / 3
    minus, plus = rest - sin / math.sqrt(3), rest + sin / math.sqrt(3)
    return Recolor((same, minus, plus, 0.0, plus, same, minus, 0.0, minus, plus, same, 0.0))


class Brightness(ColorStep):
    """Make the picture lighter or darker: every level times a factor."""

    step: Literal["brightness"] = "brightness"
    factor: Span = span((0.8, 1.25), "all levels times this; below 1: darker", unit="×", low=0.05, high=10, slider=(0.4, 2.5), log=True)
    within: Within = within()

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"factor": stream.factor(*self.factor)}

    def effect(self, drawn: Drawn, size: Size) -> Recolor:
        """p → factor · p, in 0-255 levels."""
        return Recolor.gains(drawn["factor"], drawn["factor"], drawn["factor"])


class Contrast(ColorStep):
    """Make the picture harder or softer: levels move away from middle gray or towards it."""

    step: Literal["contrast"] = "contrast"
    factor: Span = span((0.8, 1.25), "distance from middle gray times this", unit="×", low=0.05, high=10, slider=(0.4, 2.5), log=True)
    within: Within = within()

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"factor": stream.factor(*self.factor)}

    def effect(self, drawn: Drawn, size: Size) -> Recolor:
        """p → 127.5 + factor · (p − 127.5), in 0-255 levels."""
        return contrast_matrix(drawn["factor"])


class Saturation(ColorStep):
    """Make colors stronger or paler; lightness stays."""

    step: Literal["saturation"] = "saturation"
    factor: Span = span((0.75, 1.33), "distance from gray times this", unit="×", low=0.01, high=10, slider=(0.25, 4), log=True)
    within: Within = within()

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"factor": stream.factor(*self.factor)}

    def effect(self, drawn: Drawn, size: Size) -> Recolor:
        """p → y + factor · (p − y), y = 0.299 r + 0.587 g + 0.114 b (ITU-R BT.601)."""
        return saturation_matrix(drawn["factor"])


class Hue(ColorStep):
    """Turn every color around the color circle; gray stays gray."""

    step: Literal["hue"] = "hue"
    degrees: Span = span((-8.0, 8.0), "turn of the color circle", unit="degrees", low=-180, high=180, slider=(-45, 45))
    within: Within = within()

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"degrees": stream.uniform(*self.degrees)}

    def effect(self, drawn: Drawn, size: Size) -> Recolor:
        """p → R p, R the rotation by `degrees` about the gray axis (1, 1, 1) (Rodrigues' formula)."""
        return hue_matrix(drawn["degrees"])


def contrast_matrix(factor: float) -> Recolor:
    """p → 127.5 + factor · (p − 127.5)."""
    return Recolor.gains(factor, factor, factor, MIDDLE * (1 - factor))


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
