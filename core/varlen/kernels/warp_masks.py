"""Nearest-neighbour resampling of masks and label maps."""

from __future__ import annotations

from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.jit import kernel
from varlen.kernels.warp_affine import BAND, EDGES, first_and_end, fold
from varlen.kernels.warp_mapped import nearest_mapped
from varlen.model.effects import Bends
from varlen.model.geometry import Matrix, translation

ONE = 1 << 32
#: A label map, or numbers of pixels in place of its levels.
Levels = TypeVar("Levels", NDArray[np.uint8], NDArray[np.int32])


def warp_mask(
    mask: NDArray[np.uint8], left: int, top: int, bends: Bends, matrix: Matrix, rect: tuple[int, int, int, int]
) -> tuple[NDArray[np.uint8], tuple[int, int, int, int], int]:
    """The part `rect` of a mask's picture after a move, the box around its ones within it, and their number.

    mask: (h, w) uint8 whose first pixel is at column `left`, row `top`; zero elsewhere.
    `bends` and `matrix` take points before to points after. Each output pixel takes the source
    pixel that its centre falls on. The box is (x0, y0, x1, y1) in pixels of the output.
    """
    x0, y0, x1, y1 = rect
    out = np.empty((y1 - y0, x1 - x0), np.uint8)
    if bends or not matrix.affine:
        nearest_mapped(mask, left, top, bends, matrix.then(translation(-x0, -y0)), out, (0, 0, x1 - x0, y1 - y0), "solid", 0)
    else:
        _nearest(np.ascontiguousarray(mask), out, *_fixed(matrix.inverse(), x0, y0, left, top), EDGES["solid"], 0)
    found = _around(out)
    return out, found[:4], found[4]


def warp_labels(source: Levels, bends: Bends, matrix: Matrix, out: Levels, window: tuple[int, int, int, int],
                edges: str | None, outside: int) -> None:  # fmt: skip
    """Fill `window` of a label map (H, W) after a move; what the source does not reach becomes `outside` with solid edges."""
    x0, y0, x1, y1 = window
    if bends or not matrix.affine:
        nearest_mapped(source, 0, 0, bends, matrix, out, window, edges, outside)
    else:
        _nearest(np.ascontiguousarray(source), out[y0:y1, x0:x1], *_fixed(matrix.inverse(), x0, y0, 0, 0), EDGES[edges], outside)


def _fixed(inverse: Matrix, x0: int, y0: int, left: int, top: int) -> tuple[int, int, int, int, int, int]:
    """Source position of the first pixel centre, its steps along a row and from row to row, in 32.32 fixed point."""
    u = round((inverse.a * (x0 + 0.5) + inverse.b * (y0 + 0.5) + inverse.c - left) * ONE)
    v = round((inverse.d * (x0 + 0.5) + inverse.e * (y0 + 0.5) + inverse.f - top) * ONE)
    return u, v, round(inverse.a * ONE), round(inverse.d * ONE), round(inverse.b * ONE), round(inverse.e * ONE)


@kernel
def _inside(flat, width, line, first, end, x, y, dx, dy):
    """Pixels that lie inside the source, four at a time: their places don't wait for one another."""
    stride = np.uint64(width)
    shift, one, two, three = np.uint64(32), np.uint64(1), np.uint64(2), np.uint64(3)
    u, v, du, dv = np.uint64(x), np.uint64(y), np.uint64(dx), np.uint64(dy)
    du2, dv2 = du + du, dv + dv
    du3, dv3 = du2 + du, dv2 + dv
    du4, dv4 = du3 + du, dv3 + dv
    column = first
    while column + 4 <= end:
        k = np.uint64(column)
        a = flat[(v >> shift) * stride + (u >> shift)]
        b = flat[((v + dv) >> shift) * stride + ((u + du) >> shift)]
        c = flat[((v + dv2) >> shift) * stride + ((u + du2) >> shift)]
        d = flat[((v + dv3) >> shift) * stride + ((u + du3) >> shift)]
        line[k] = a
        line[k + one] = b
        line[k + two] = c
        line[k + three] = d
        u += du4
        v += dv4
        column += 4
    while column < end:
        line[np.uint64(column)] = flat[(v >> shift) * stride + (u >> shift)]
        u += du
        v += dv
        column += 1


@kernel
def _nearest(source, out, u0, v0, du, dv, row_u, row_v, edges, outside):
    height, width = source.shape
    flat = source.reshape(source.size)
    rows, columns = out.shape
    spans = np.empty((rows, 2), np.int64)
    for row in range(rows):
        u, v = u0 + row * row_u, v0 + row * row_v
        spans[row, 0], spans[row, 1] = first_and_end(u, v, du, dv, np.int64(width) << 32, np.int64(height) << 32, columns)
    # In upright bands the source's rows stay near the processor until the next row of the output needs them.
    for begin in range(0, columns, BAND):
        stop = min(begin + BAND, columns)
        for row in range(rows):
            u, v = u0 + row * row_u, v0 + row * row_v
            line = out[row]
            # Between `first` and `end` every pixel lies inside the source: no questions there.
            first, end = min(max(spans[row, 0], begin), stop), min(max(spans[row, 1], begin), stop)
            for column in range(begin, first):
                line[column] = _edge(source, u + column * du, v + column * dv, edges, outside)
            _inside(flat, width, line, first, end, u + first * du, v + first * dv, du, dv)
            for column in range(end, stop):
                line[column] = _edge(source, u + column * du, v + column * dv, edges, outside)


@kernel
def _edge(source, u, v, edges, outside):
    height, width = source.shape
    x, y = u >> 32, v >> 32
    if edges == 0 and not (0 <= x < width and 0 <= y < height):
        return source.dtype.type(outside)
    return source[fold(y, height, edges), fold(x, width, edges)]


@kernel
def _around(mask):
    """The box around the ones of a mask, and their number."""
    rows, columns = mask.shape
    left, top, right, bottom, count = columns, rows, 0, 0, 0
    for row in range(rows):
        ones = 0
        line = mask[row]
        for column in range(columns):
            ones += line[column]
        if ones == 0:
            continue
        count += ones
        top = min(top, row)
        bottom = row + 1
        for column in range(columns):
            if line[column]:
                left = min(left, column)
                break
        for column in range(columns - 1, right - 1, -1):
            if line[column]:
                right = max(right, column + 1)
                break
    return left, top, right, bottom, count
