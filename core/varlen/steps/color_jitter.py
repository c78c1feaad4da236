"""Brightness, contrast, saturation and hue in one matrix."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Literal

from varlen.model.effects import Recolor
from varlen.model.geometry import Size
from varlen.steps.base import ColorStep, DrawContext, Drawn, Span, Within, span, within

if TYPE_CHECKING:
    from varlen.draws import Stream

#: Share of red, green and blue in perceived lightness (ITU-R BT.601).
LUMA = (0.299, 0.587, 0.114)
#: The level that contrast leaves alone.
MIDDLE = 127.5


class ColorJitter(ColorStep):
    """Vary brightness, contrast, saturation and hue together, in one pass over the pixels."""

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
        turn = Recolor(_hue(drawn["hue_degrees"]))
        s, c, b = drawn["saturation_factor"], drawn["contrast_factor"], drawn["brightness_factor"]
        return turn.then(saturation_matrix(s)).then(Recolor.gains(c, c, c, MIDDLE * (1 - c))).then(Recolor.gains(b, b, b))


def saturation_matrix(saturation: float) -> Recolor:
    """p → gray(p) + saturation · (p − gray(p))."""
    fade = [(1 - saturation) * LUMA[column] + (saturation if row == column else 0.0) for row in range(3) for column in range(3)]
    return Recolor((*fade[0:3], 0.0, *fade[3:6], 0.0, *fade[6:9], 0.0))


def _hue(degrees: float) -> tuple[float, ...]:
    cos, sin = math.cos(math.radians(degrees)), math.sin(math.radians(degrees))
    same, rest = cos + (1 - cos) / 3, (1 - cos) / 3
    minus, plus = rest - sin / math.sqrt(3), rest + sin / math.sqrt(3)
    return (same, minus, plus, 0.0, plus, same, minus, 0.0, minus, plus, same, 0.0)
