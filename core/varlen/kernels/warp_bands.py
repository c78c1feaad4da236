"""Resampling arrays of any number type and any number of bands: depth maps, heat maps, 16-bit and multi-band pictures.

Interpolated arrays are worked on as float64 and rounded to their own type at the end; positions are those of
`warp_mapped`. Nearest neighbours are found on an array of pixel numbers with the very loop that label maps go through, so
values of any type are moved without being touched.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.jit import kernel
from varlen.kernels.resample import ONE, taps
from varlen.kernels.warp_affine import EDGES, fold
from varlen.kernels.warp_mapped import BLOCK, line_back, room_for, way_back
from varlen.kernels.warp_masks import warp_labels
from varlen.model.effects import Bends
from varlen.model.geometry import Matrix

Bands = NDArray[np.float64]
Window = tuple[int, int, int, int]


def warp_bands(source: Bands, bends: Bends, matrix: Matrix, out: Bands, window: Window, edges: str | None, fill: float) -> None:
    """Fill `window` of `out` with `source` after `bends` and `matrix` (points of `source` to points of `out`), bilinear.

    source, out: (H, W, C) float64. What the source does not reach becomes `fill` with solid edges; the outermost half
    pixel repeats the border pixel.
    """
    _warp(np.ascontiguousarray(source), out, *window, *way_back(bends, matrix), EDGES[edges], float(fill))


def nearest_places(
    height: int, width: int, bends: Bends, matrix: Matrix, shape: tuple[int, int], window: Window, edges: str | None
) -> NDArray[np.int32]:
    """For each pixel of an output of `shape` the number of the source pixel (row by row) it shows, −1 for none; (H, W) int32."""
    numbers = np.arange(height * width, dtype=np.int32).reshape(height, width)
    out = np.full(shape, -1, np.int32)
    warp_labels(numbers, bends, matrix, out, window, edges, -1)
    return out


def shrunk_bands(source: Bands, width: int, height: int) -> Bands:
    """The whole array at a smaller size, protected against aliasing by the same weights as pictures; (height, width, C) float64."""
    for axis, length in ((0, height), (1, width)):
        first, weights = taps(source.shape[axis], length, length / source.shape[axis], 0.0)
        last, total = source.shape[axis] - 1, np.zeros(1)
        for tap in range(weights.shape[1]):
            weight = (weights[:, tap].astype(np.float64) / ONE).reshape((-1, 1, 1) if axis == 0 else (1, -1, 1))
            total = total + source.take(np.minimum(first + tap, last), axis) * weight
        source = total
    return source


def as_bands(array: NDArray[Any]) -> Bands:
    """(H, W) or (H, W, C) of any number type as (H, W, C) float64."""
    return np.ascontiguousarray(array.reshape(*array.shape[:2], -1), np.float64)


def settled(bands: Bands, dtype: np.dtype[Any]) -> NDArray[Any]:
    """Interpolated values in their own type: whole numbers rounded half up and kept in range, truth values from a half on."""
    if dtype.kind == "b":
        return bands >= 0.5
    if dtype.kind in "iu":
        limits = np.iinfo(dtype)
        rounded = np.floor(bands + 0.5)
        # Only 64-bit limits have no float64 of their own: one step inside is the largest that has.
        high = np.nextafter(float(limits.max), 0.0) if dtype.itemsize == 8 else float(limits.max)
        return np.clip(rounded, float(limits.min), high).astype(dtype)
    return bands.astype(dtype)


@kernel
def _warp(source, out, x0, y0, x1, y1, inverses, controls, grids, steps, edges, fill):
    height, width, bands = source.shape
    xs, ys = np.empty(BLOCK, np.float64), np.empty(BLOCK, np.float64)
    room = room_for(BLOCK)
    for row in range(y0, y1):
        start = x0
        while start < x1:
            count = min(BLOCK, x1 - start)
            line_back(inverses, controls, grids, steps, start + 0.5, row + 0.5, xs, ys, count, room)
            for n in range(count):
                x, y = xs[n], ys[n]
                if edges == 0 and not (0.0 <= x < width and 0.0 <= y < height):
                    for band in range(bands):
                        out[row, start + n, band] = fill
                    continue
                i, j = int(np.floor(x - 0.5)), int(np.floor(y - 0.5))
                t, s = x - 0.5 - i, y - 0.5 - j
                left, right = fold(i, width, edges), fold(i + 1, width, edges)
                upper, lower = fold(j, height, edges), fold(j + 1, height, edges)
                for band in range(bands):
                    # What weighs nothing is not looked at: it may be no number.
                    top = source[upper, left, band] if t == 0.0 else source[upper, left, band] * (1.0 - t) + source[upper, right, band] * t
                    if s == 0.0:
                        out[row, start + n, band] = top
                    else:
                        bottom = source[lower, left, band] if t == 0.0 else source[lower, left, band] * (1.0 - t) + source[lower, right, band] * t
                        out[row, start + n, band] = top * (1.0 - s) + bottom * s
            start += count
