"""A step of one's own, the short way: a function.

Use it with

    VARLEN_STEPS=docs/examples/lamp_flicker.py varlen steps lamp_flicker
"""

from typing import Annotated

import numpy as np
import varlen as v
from numpy.typing import NDArray
from varlen.draws import Stream


@v.step
def lamp_flicker(
    pixels: NDArray[np.uint8],
    stream: Stream,
    *,
    strength: Annotated[tuple[float, float], v.Range("share of level", 0, 1)] = (0.0, 0.2),
    rows: Annotated[int, v.Number("px", 1, 200, whole=True)] = 8,
) -> NDArray[np.uint8]:
    """Darken a band of rows, as a flickering lamp does under a rolling shutter.

    strength: how much darker the band is
    rows: its height
    """
    top = stream.below(max(len(pixels) - rows, 1))
    gain = round(256 * (1 - strength))  # type: ignore[operator]  # one number was drawn from the range
    pixels[top : top + rows] = (pixels[top : top + rows].astype(np.uint32) * gain) >> 8
    return pixels
