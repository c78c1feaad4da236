"""Moves that need no resampling: flips, quarter turns, whole-pixel shifts and crops."""

from __future__ import annotations

import numpy as np

from varlen.kernels.warp_affine import Pixels
from varlen.model.geometry import Matrix


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
