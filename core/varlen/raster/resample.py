"""Separable resampling along the axes: resizing with protection against aliasing.

Every output pixel is a weighted mean of the source under a triangle whose half width is one
output pixel (at least one source pixel): the ordinary bilinear weights when enlarging, a
proper low-pass filter when shrinking. Weights are in 1/4096.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from varlen.raster.jit import kernel
from varlen.raster.warp import Pixels

BITS = 12
ONE = 1 << BITS


@lru_cache(maxsize=256)
def _taps(length: int, count: int, factor: float, offset: float) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """First source index and weights for each of `count` output pixels.

    The source position u of the output position x is (x − offset) / factor; a negative
    factor mirrors. The weights of each pixel add up to exactly 4096.
    """
    reach = max(1.0, 1.0 / abs(factor))
    centre = (np.arange(count) + 0.5 - offset) / factor - 0.5
    low = np.clip(np.ceil(centre - reach), 0, length - 1)
    high = np.clip(np.floor(centre + reach), low, length - 1)
    # At least four taps, so that the kernel's straight code serves most pictures; spare ones weigh nothing.
    number = max(4, int((high - low).max()) + 1)
    first = np.maximum(np.minimum(low, length - number), 0)
    places = first[:, None] + np.arange(number)
    raw = np.where((places >= low[:, None]) & (places <= high[:, None]), np.maximum(1.0 - np.abs(places - centre[:, None]) / reach, 0.0), 0.0)
    raw[raw.sum(axis=1) == 0.0, :] = (places == low[:, None])[raw.sum(axis=1) == 0.0, :]
    weights = np.rint(raw / raw.sum(axis=1, keepdims=True) * ONE).astype(np.int32)
    weights[np.arange(count), raw.argmax(axis=1)] += ONE - weights.sum(axis=1, dtype=np.int32)
    return first.astype(np.int32), weights


def resample(source: Pixels, out: Pixels, window: tuple[int, int, int, int], factor: tuple[float, float], offset: tuple[float, float] = (0.0, 0.0)) -> None:
    """Fill `window` of `out` with `source` scaled by `factor` (x, y), then moved by `offset` in output pixels.

    source, out: (H, W, 3) uint8. Beyond the border the border pixel is repeated.
    """
    x0, y0, x1, y1 = window
    columns = _taps(source.shape[1], x1 - x0, factor[0], offset[0] - x0)
    rows = _taps(source.shape[0], y1 - y0, factor[1], offset[1] - y0)
    _resample(source, out.reshape(-1), out.shape[1], x0, y0, *columns, *rows)


def shrunk(source: Pixels, width: int, height: int) -> Pixels:
    """The whole picture at another size."""
    out = np.empty((height, width, 3), np.uint8)
    resample(source, out, (0, 0, width, height), (width / source.shape[1], height / source.shape[0]))
    return out


@kernel
def _add_row(accumulator, line, weight, count):
    for n in range(count):
        accumulator[n] = np.int32(accumulator[n] + np.int32(np.int32(line[n]) * weight))


@kernel
def _settle(accumulator, count):
    for n in range(count):
        accumulator[n] = (accumulator[n] + 8) >> 4


@kernel
def _along(buffer, out, first, weights):
    """One row along x: buffer in 8.8 levels, with room for spare taps at its end."""
    taps = weights.shape[1]
    half = np.int32(1 << 19)
    if taps == 4:
        for column in range(first.size):
            p = np.uint64(3 * first[column])
            w0, w1, w2, w3 = weights[column, 0], weights[column, 1], weights[column, 2], weights[column, 3]
            for channel in range(3):
                q = p + np.uint64(channel)
                left = np.int32(np.int32(buffer[q] * w0) + np.int32(buffer[q + np.uint64(3)] * w1))
                right = np.int32(np.int32(buffer[q + np.uint64(6)] * w2) + np.int32(buffer[q + np.uint64(9)] * w3))
                out[3 * column + channel] = np.int32(left + np.int32(right + half)) >> 20
        return
    for column in range(first.size):
        red = green = blue = half
        p = np.uint64(3 * first[column])
        for tap in range(taps):
            weight = weights[column, tap]
            red = np.int32(red + np.int32(buffer[p] * weight))
            green = np.int32(green + np.int32(buffer[p + np.uint64(1)] * weight))
            blue = np.int32(blue + np.int32(buffer[p + np.uint64(2)] * weight))
            p += np.uint64(3)
        out[3 * column] = red >> 20
        out[3 * column + 1] = green >> 20
        out[3 * column + 2] = blue >> 20


@kernel
def _resample(source, out, stride, left_column, top_row, first_x, weights_x, first_y, weights_y):
    """Down the columns into a buffer of 8.8 levels, then along the row."""
    height, width = source.shape[0], source.shape[1]
    buffer = np.zeros(3 * (width + weights_x.shape[1]), np.int32)
    for row in range(first_y.size):
        buffer[:] = 0
        for tap in range(weights_y.shape[1]):
            weight = weights_y[row, tap]
            if weight != 0:
                line = source[min(first_y[row] + tap, height - 1)].reshape(3 * width)
                _add_row(buffer, line, weight, 3 * width)
        _settle(buffer, 3 * width)
        begin = 3 * ((top_row + row) * stride + left_column)
        _along(buffer, out[begin : begin + 3 * first_x.size], first_x, weights_x)
