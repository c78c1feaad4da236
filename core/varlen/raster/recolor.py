"""A color matrix on every pixel, in fixed point."""

from __future__ import annotations

import numpy as np

from varlen.raster.jit import kernel
from varlen.raster.warp import Pixels

BITS = 14


def recolor(pixels: Pixels, window: tuple[int, int, int, int], matrix: tuple[float, ...]) -> None:
    """Multiply (red, green, blue, 1) of every pixel in `window` by a 3×4 matrix, in place; cut off at 0 and 255.

    pixels: (H, W, 3) uint8, contiguous. Coefficients are rounded to 1/16384.
    """
    limit = 1 << 20  # 64 ×: products of three levels stay within 32 bits
    whole = [min(max(round(value * (1 << BITS)), -limit), limit) for value in matrix]
    for n in (3, 7, 11):
        offset = min(max(matrix[n], -32768.0), 32767.0)
        whole[n] = round(offset * (1 << BITS)) + (1 << (BITS - 1))
    x0, y0, x1, y1 = window
    _recolor(pixels.reshape(-1), pixels.shape[1], x0, y0, x1 - x0, y1 - y0, np.array(whole, np.int32))


@kernel
def _level(value):
    return np.uint8(min(max(value >> 14, 0), 255))


@kernel
def _recolor(pixels, stride, left_column, top_row, columns, rows, m):
    m0, m1, m2, m3, m4, m5, m6, m7, m8, m9, m10, m11 = m[0], m[1], m[2], m[3], m[4], m[5], m[6], m[7], m[8], m[9], m[10], m[11]
    for row in range(rows):
        begin = 3 * ((top_row + row) * stride + left_column)
        line = pixels[begin : begin + 3 * columns]
        for column in range(columns):
            red = np.int32(line[3 * column])
            green = np.int32(line[3 * column + 1])
            blue = np.int32(line[3 * column + 2])
            line[3 * column] = _level(np.int32(np.int32(m0 * red) + np.int32(m1 * green) + np.int32(m2 * blue) + m3))
            line[3 * column + 1] = _level(np.int32(np.int32(m4 * red) + np.int32(m5 * green) + np.int32(m6 * blue) + m7))
            line[3 * column + 2] = _level(np.int32(np.int32(m8 * red) + np.int32(m9 * green) + np.int32(m10 * blue) + m11))
