"""Uneven light and soft shadows as a gain for every pixel."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from varlen.kernels.jit import kernel
from varlen.kernels.warp_affine import Pixels


def relight(pixels: Pixels, strength: float, angle_degrees: float, shadows: list[dict[str, Any]]) -> Pixels:
    """(H, W, 3) uint8 lit from `angle_degrees` (counter-clockwise from the right), darkened by elliptic shadows."""
    height, width = pixels.shape[:2]
    half = math.hypot(width, height) / 2
    light = np.array(_turn(angle_degrees)) / half
    ellipses = np.empty((len(shadows), 6))
    for place, shadow in enumerate(shadows):
        cos, sin = _turn(shadow["degrees"])
        along, across = shadow["length_fraction"] * half, shadow["breadth_fraction"] * half
        ellipses[place] = (shadow["x_fraction"] * width, shadow["y_fraction"] * height, cos / along, sin / along, -sin / across, cos / across)
    out = np.empty(pixels.shape, np.uint8)
    _relight(np.ascontiguousarray(pixels), out, strength, light, ellipses)
    return out


def _turn(degrees: float) -> tuple[float, float]:
    """Direction of an angle with y pointing down, rounded so that the last bit is no matter."""
    return round(math.cos(math.radians(degrees)), 9), -round(math.sin(math.radians(degrees)), 9)


@kernel
def _relight(pixels, out, strength, light, ellipses):
    height, width = pixels.shape[0], pixels.shape[1]
    for row in range(height):
        y = row + 0.5
        for column in range(width):
            x = column + 0.5
            gain = 1.0 + strength * ((x - width / 2) * light[0] + (y - height / 2) * light[1])
            for n in range(ellipses.shape[0]):
                dx, dy = x - ellipses[n, 0], y - ellipses[n, 1]
                u, v = dx * ellipses[n, 2] + dy * ellipses[n, 3], dx * ellipses[n, 4] + dy * ellipses[n, 5]
                t = min(max((1.4 - np.sqrt(u * u + v * v)) / 0.8, 0.0), 1.0)
                gain *= 1.0 - strength * t * t * (3.0 - 2.0 * t)
            whole = int(gain * 4096.0 + 0.5)
            for channel in range(3):
                out[row, column, channel] = min((pixels[row, column, channel] * whole + 2048) >> 12, 255)
