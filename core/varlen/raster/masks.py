"""Nearest-neighbour resampling of masks."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from varlen.geometry import Matrix
from varlen.raster.jit import kernel

ONE = 1 << 32


def warp_mask(
    mask: NDArray[np.uint8], left: int, top: int, inverse: Matrix, rect: tuple[int, int, int, int]
) -> tuple[NDArray[np.uint8], tuple[int, int, int, int], int]:
    """The part `rect` of a mask's picture after a move, the box around its ones within it, and their number.

    mask: (h, w) uint8 whose first pixel is at column `left`, row `top`; zero elsewhere.
    inverse: points after to points before. Each output pixel takes the source pixel that
    its centre falls on. The box is (x0, y0, x1, y1) in pixels of the output.
    """
    x0, y0, x1, y1 = rect
    out = np.empty((y1 - y0, x1 - x0), np.uint8)
    u = round((inverse.a * (x0 + 0.5) + inverse.b * (y0 + 0.5) + inverse.c - left) * ONE)
    v = round((inverse.d * (x0 + 0.5) + inverse.e * (y0 + 0.5) + inverse.f - top) * ONE)
    found = _nearest(mask, out, u, v, round(inverse.a * ONE), round(inverse.d * ONE), round(inverse.b * ONE), round(inverse.e * ONE))
    return out, found[:4], found[4]


@kernel
def _nearest(source, out, u0, v0, du, dv, row_u, row_v):
    height, width = source.shape
    rows, columns = out.shape
    left, top, right, bottom, count = columns, rows, 0, 0, 0
    for row in range(rows):
        u = u0 + row * row_u
        v = v0 + row * row_v
        before = count
        for column in range(columns):
            x = u >> 32
            y = v >> 32
            pixel = source[y, x] if 0 <= x < width and 0 <= y < height else np.uint8(0)
            out[row, column] = pixel
            if pixel:
                count += 1
                left = min(left, column)
                right = max(right, column + 1)
            u += du
            v += dv
        if count > before:
            top = min(top, row)
            bottom = row + 1
    return left, top, right, bottom, count
