"""Separable resampling along the axes: resizing with protection against aliasing.

Every output pixel is a weighted mean of the source under a triangle whose half width is one
output pixel (at least one source pixel): the ordinary bilinear weights when enlarging, a
proper low-pass filter when shrinking. Weights are whole multiples of 1/4096 held as floats:
sums down the columns are then exact, and floats multiply faster than 32-bit integers.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.jit import kernel
from varlen.kernels.packed_pixels import weigh4
from varlen.kernels.warp_affine import Pixels
from varlen.model.geometry import Matrix

BITS = 12
ONE = 1 << BITS


@lru_cache(maxsize=256)
def taps(length: int, count: int, factor: float, offset: float) -> tuple[NDArray[np.int32], NDArray[np.float32]]:
    """First source index and weights for each of `count` output pixels.

    The source position u of the output position x is (x − offset) / factor; a negative
    factor mirrors. The weights of each pixel add up to exactly 4096.
    """
    reach = max(1.0, 1.0 / abs(factor))
    centre = (np.arange(count) + 0.5 - offset) / factor - 0.5
    low = np.clip(np.ceil(centre - reach), 0, length - 1)
    high = np.clip(np.floor(centre + reach), low, length - 1)
    # A multiple of four taps, as the kernel takes them; spare ones weigh nothing.
    number = (int((high - low).max()) + 4) // 4 * 4
    first = np.maximum(np.minimum(low, length - number), 0)
    places = first[:, None] + np.arange(number)
    raw = np.where((places >= low[:, None]) & (places <= high[:, None]), np.maximum(1.0 - np.abs(places - centre[:, None]) / reach, 0.0), 0.0)
    raw[raw.sum(axis=1) == 0.0, :] = (places == low[:, None])[raw.sum(axis=1) == 0.0, :]
    weights = np.rint(raw / raw.sum(axis=1, keepdims=True) * ONE).astype(np.int32)
    weights[np.arange(count), raw.argmax(axis=1)] += ONE - weights.sum(axis=1, dtype=np.int32)
    return first.astype(np.int32), weights.astype(np.float32)


def resample(
    source: Pixels, out: Pixels, window: tuple[int, int, int, int], factor: tuple[float, float], offset: tuple[float, float] = (0.0, 0.0)
) -> None:
    """Fill `window` of `out` with `source` scaled by `factor` (x, y), then moved by `offset` in output pixels.

    source, out: (H, W, 3) uint8, `out` contiguous. Beyond the border the border pixel is repeated.
    """
    source = np.ascontiguousarray(source)
    x0, y0, x1, y1 = window
    first, weights = taps(source.shape[1], x1 - x0, factor[0], offset[0] - x0)
    rows = taps(source.shape[0], y1 - y0, factor[1], offset[1] - y0)
    # Only the columns of the source that the window shows. Found here: the compiler's own would bring in SciPy with the kept code.
    left = int(first.min())
    width = min(source.shape[1], int(first.max()) + weights.shape[1]) - left
    _resample(source, left, width, out.reshape(-1), out.shape[1], x0, y0, first - left, weights, *rows)


def halved(source: Pixels) -> Pixels:
    """Half the size, each pixel the mean of four; width and height must be even."""
    out = np.empty((source.shape[0] // 2, source.shape[1] // 2, 3), np.uint8)
    _halve(np.ascontiguousarray(source), out)
    return out


def shrunk(source: Pixels, width: int, height: int) -> Pixels:
    """The whole picture at another size."""
    out = np.empty((height, width, 3), np.uint8)
    resample(source, out, (0, 0, width, height), (width / source.shape[1], height / source.shape[0]))
    return out


@kernel
def _halve(source, out):
    height, width = out.shape[0], out.shape[1]
    for row in range(height):
        upper, lower = source[2 * row].reshape(6 * width), source[2 * row + 1].reshape(6 * width)
        line = out[row].reshape(3 * width)
        for column in range(width):
            p, q = np.uint64(6 * column), np.uint64(3 * column)
            for channel in range(3):
                c = np.uint64(channel)
                r = c + np.uint64(3)
                four = np.uint16(upper[p + c]) + np.uint16(upper[p + r]) + np.uint16(lower[p + c]) + np.uint16(lower[p + r])
                line[q + c] = (four + 2) >> 2


@kernel
def weigh_rows(total, a, b, c, d, wa, wb, wc, wd, count, onto):
    """total = (total if `onto`) + wa a + wb b + wc c + wd d, over `count` values; four rows at a time save memory traffic."""
    if onto:
        for n in range(count):
            total[n] += (np.float32(a[n]) * wa + np.float32(b[n]) * wb) + (np.float32(c[n]) * wc + np.float32(d[n]) * wd)
    else:
        for n in range(count):
            total[n] = (np.float32(a[n]) * wa + np.float32(b[n]) * wb) + (np.float32(c[n]) * wc + np.float32(d[n]) * wd)


@kernel
def weigh_column(total, source, first, weights, begin, count):
    """total = Σ weights[k] · source[first + k], rows beyond the picture repeating its border.

    Of each row, flat, `count` values from `begin` on.

    The number of weights must be a multiple of four.
    """
    height = source.shape[0]
    end = begin + count
    flat = 3 * source.shape[1]
    for tap in range(0, weights.size, 4):
        a = min(max(first + tap, 0), height - 1)
        b = min(max(first + tap + 1, 0), height - 1)
        c = min(max(first + tap + 2, 0), height - 1)
        d = min(max(first + tap + 3, 0), height - 1)
        rows = (source[a].reshape(flat), source[b].reshape(flat), source[c].reshape(flat), source[d].reshape(flat))
        weigh_rows(total, rows[0][begin:end], rows[1][begin:end], rows[2][begin:end], rows[3][begin:end],
                   weights[tap], weights[tap + 1], weights[tap + 2], weights[tap + 3], count, tap > 0)  # fmt: skip


@kernel
def settle(total, out, count):
    """Sums of weights in 1/4096 twice over, rounded to levels."""
    for n in range(count):
        out[n] = np.uint8(np.int32(total[n] * np.float32(1.0 / ONE / ONE) + np.float32(0.5)))


@kernel
def _along(buffer, out, first, weights):
    """One row along x. Four values at a time, of which the fourth is overwritten by the next pixel."""
    taps = weights.shape[1]
    if taps == 4:
        flat = weights.reshape(weights.size)
        for column in range(first.size):
            weigh4(buffer, np.uint64(3 * first[column]), flat, np.uint64(4 * column), out, np.uint64(3 * column))
        return
    for column in range(first.size):
        red = green = blue = np.float32(0)
        p = np.uint64(3 * first[column])
        for tap in range(taps):
            weight = weights[column, tap]
            red += buffer[p] * weight
            green += buffer[p + np.uint64(1)] * weight
            blue += buffer[p + np.uint64(2)] * weight
            p += np.uint64(3)
        out[3 * column] = red
        out[3 * column + 1] = green
        out[3 * column + 2] = blue


@kernel
def _resample(source, left, width, out, stride, left_column, top_row, first_x, weights_x, first_y, weights_y):
    """Down the columns into a buffer, then along the row. first_x: counted from column `left` of the source, of which `width` columns are used."""
    columns = first_x.size
    buffer = np.zeros(3 * (width + weights_x.shape[1]) + 1, np.float32)
    total = np.zeros(3 * columns + 1, np.float32)
    for row in range(first_y.size):
        weigh_column(buffer, source, first_y[row], weights_y[row], 3 * left, 3 * width)
        _along(buffer, total, first_x, weights_x)
        begin = 3 * ((top_row + row) * stride + left_column)
        settle(total, out[begin : begin + 3 * columns], 3 * columns)


def moved_view(source: Pixels, matrix: Matrix, target: tuple[int, int, int, int]) -> Pixels:
    """`target` of the picture after a lossless move, as a view of `source`; it must lie within it."""
    inverse = matrix.inverse()
    x0, y0, x1, y1 = target
    (ua, va), (ub, vb) = inverse.point(x0, y0), inverse.point(x1, y1)
    left, right, top, bottom = round(min(ua, ub)), round(max(ua, ub)), round(min(va, vb)), round(max(va, vb))
    part = source[top:bottom, left:right]
    across, down = inverse.a, inverse.e
    if inverse.a == 0.0:
        part = part.transpose(1, 0, 2)
        across, down = inverse.d, inverse.b
    return part[:: 1 if down > 0 else -1, :: 1 if across > 0 else -1]


def fill_outside(out: Pixels, window: tuple[int, int, int, int], color: tuple[int, int, int]) -> None:
    """Paint all of `out` but `window`."""
    x0, y0, x1, y1 = window
    row = np.empty((out.shape[1], 3), np.uint8)
    row[:] = color
    # Whole rows are copied: painting pixel by pixel is slow with three bytes a pixel.
    for part in (out[:y0], out[y1:], out[y0:y1, :x0], out[y0:y1, x1:]):
        part[...] = row[: part.shape[1]]
