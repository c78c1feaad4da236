"""Nearest-neighbour resampling of masks."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from varlen.geometry import Matrix
from varlen.raster.jit import kernel

ONE = 1 << 32


def warp_mask(mask: NDArray[np.uint8], left: int, top: int, inverse: Matrix, rect: tuple[int, int, int, int]) -> NDArray[np.uint8]:
    """The part `rect` of a mask's picture after a move.

    mask: (h, w) uint8 whose first pixel is at column `left`, row `top`; zero elsewhere.
    inverse: points after to points before. Each output pixel takes the source pixel that
    its centre falls on.
    """
    x0, y0, x1, y1 = rect
    out = np.empty((y1 - y0, x1 - x0), np.uint8)
    u = round((inverse.a * (x0 + 0.5) + inverse.b * (y0 + 0.5) + inverse.c - left) * ONE)
    v = round((inverse.d * (x0 + 0.5) + inverse.e * (y0 + 0.5) + inverse.f - top) * ONE)
    _nearest(mask, out, u, v, round(inverse.a * ONE), round(inverse.d * ONE), round(inverse.b * ONE), round(inverse.e * ONE))
    return out


@kernel
def _nearest(source, out, u0, v0, du, dv, row_u, row_v):
    height, width = source.shape
    for row in range(out.shape[0]):
        u = u0 + row * row_u
        v = v0 + row * row_v
        for column in range(out.shape[1]):
            x = u >> 32
            y = v >> 32
            out[row, column] = source[y, x] if 0 <= x < width and 0 <= y < height else 0
            u += du
            v += dv
