"""Gaussian blur, separable, with weights in 1/4096."""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from varlen.raster.jit import kernel
from varlen.raster.resample import ONE, settle, weigh_column, weigh_rows
from varlen.raster.warp import Pixels


@lru_cache(maxsize=1024)
def _weights(sigma: float) -> tuple[int, NDArray[np.float32]]:
    """Radius (3 σ) and symmetric weights in 1/4096 that add up to one, with zeros up to a multiple of four."""
    radius = max(1, math.ceil(3.0 * sigma))
    raw = [math.exp(-0.5 * (n / sigma) ** 2) for n in range(-radius, radius + 1)]
    whole = [round(weight / sum(raw) * ONE) for weight in raw]
    whole[radius] += ONE - sum(whole)
    whole += [0] * (-len(whole) % 4)
    return radius, np.array(whole, np.float32)


def gaussian(source: Pixels, sigma: float) -> Pixels:
    """(H, W, 3) uint8 blurred with standard deviation `sigma` in pixels; the border repeats."""
    out = np.empty(source.shape, np.uint8)
    _gaussian(np.ascontiguousarray(source), out, *_weights(sigma))
    return out


@kernel
def _gaussian(source, out, radius, weights):
    height, width = source.shape[0], source.shape[1]
    count = 3 * width
    padded = np.zeros(count + 6 * radius + 12, np.float32)
    middle = padded[3 * radius : 3 * radius + count]
    total = np.empty(count, np.float32)
    for row in range(height):
        weigh_column(middle, source, row - radius, weights, 0, count)
        for n in range(radius):
            for channel in range(3):
                padded[3 * n + channel] = middle[channel]
                padded[3 * (radius + width + n) + channel] = middle[count - 3 + channel]
        for tap in range(0, weights.size, 4):
            weigh_rows(total, padded[3 * tap :], padded[3 * tap + 3 :], padded[3 * tap + 6 :], padded[3 * tap + 9 :],
                       weights[tap], weights[tap + 1], weights[tap + 2], weights[tap + 3], count, tap > 0)  # fmt: skip
        settle(total, out[row].reshape(count), count)
