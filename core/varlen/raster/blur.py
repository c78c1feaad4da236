"""Gaussian blur, separable, in fixed point."""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from varlen.raster.jit import kernel
from varlen.raster.resample import _add_row, _settle
from varlen.raster.warp import Pixels

ONE = 1 << 12


@lru_cache(maxsize=1024)
def _weights(sigma: float) -> NDArray[np.int32]:
    """Symmetric weights in 1/4096 that add up to one, out to 3 σ."""
    radius = max(1, math.ceil(3.0 * sigma))
    raw = [math.exp(-0.5 * (n / sigma) ** 2) for n in range(-radius, radius + 1)]
    whole = [round(weight / sum(raw) * ONE) for weight in raw]
    whole[radius] += ONE - sum(whole)
    return np.array(whole, np.int32)


def gaussian(source: Pixels, sigma: float) -> Pixels:
    """(H, W, 3) uint8 blurred with standard deviation `sigma` in pixels; the border repeats."""
    out = np.empty(source.shape, np.uint8)
    _gaussian(source, out, _weights(sigma))
    return out


@kernel
def _finish(accumulator, out, count):
    for n in range(count):
        out[n] = np.uint8((accumulator[n] + (1 << 19)) >> 20)


@kernel
def _gaussian(source, out, weights):
    height, width = source.shape[0], source.shape[1]
    radius = weights.size // 2
    count = 3 * width
    padded = np.empty(count + 6 * radius, np.int32)
    middle = padded[3 * radius : 3 * radius + count]
    total = np.empty(count, np.int32)
    for row in range(height):
        middle[:] = 0
        for tap in range(weights.size):
            above = min(max(row + tap - radius, 0), height - 1)
            _add_row(middle, source[above].reshape(count), weights[tap], count)
        _settle(middle, count)
        for n in range(radius):
            for channel in range(3):
                padded[3 * n + channel] = middle[channel]
                padded[3 * (radius + width + n) + channel] = middle[count - 3 + channel]
        total[:] = 0
        for tap in range(weights.size):
            _add_row(total, padded[3 * tap : 3 * tap + count], weights[tap], count)
        _finish(total, out[row].reshape(count), count)
