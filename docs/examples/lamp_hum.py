"""A step of one's own: the light and dark bands of a lamp on alternating current.

Use it with

    VARLEN_STEPS=docs/examples/lamp_hum.py varlen steps lamp_hum
"""

import math
from typing import ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from varlen.draws import Stream
from varlen.model.geometry import Size
from varlen.steps.base import DetailStep, DrawContext, Drawn, Span, span


class LampHum(DetailStep):
    """Lay light and dark bands over the picture, as a lamp on alternating current does."""

    purpose: ClassVar[str] = "light"

    step: Literal["lamp_hum"] = "lamp_hum"
    strength: Span = span((0.0, 0.2), "how much darker the dark bands are", unit="of level", low=0, high=1)
    bands: Span = span((2.0, 6.0), "number of bands from top to bottom", unit="bands", low=0.5, high=60, slider=(1, 20))

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"strength": stream.uniform(*self.strength), "bands": stream.uniform(*self.bands), "phase": stream.uniform(0, 1)}

    def values(self, drawn: Drawn, size: Size) -> Drawn | None:
        return drawn if drawn["strength"] > 0 else None

    def apply(self, pixels: NDArray[np.uint8], values: Drawn) -> NDArray[np.uint8]:
        """p → p (1 − strength · (1 + sin(2π (bands · y / H + phase))) / 2)."""
        height = len(pixels)
        turns = values["bands"] * (np.arange(height) + 0.5) / height + values["phase"]
        # In whole 1/4096, so that the last bit of a sine is no matter for the bytes.
        gain = np.rint(4096 * (1 - values["strength"] * (1 + np.sin(2 * math.pi * turns)) / 2)).astype(np.uint32)
        return ((pixels * gain[:, None, None] + 2048) >> 12).astype(np.uint8)
