"""Resampling through transforms that are not affine: perspectives, and bends between matrices.

Where each output pixel's centre comes from is followed back in float64, step by step; every
processor rounds these multiplications, additions and divisions alike. The positions then go
into the same fixed point and the same interpolation as for affine moves.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.bends import control_points, displacement
from varlen.kernels.jit import kernel
from varlen.kernels.warp_affine import EDGES, Pixels, between, blend_at, fold, packed, put
from varlen.model.bends import Bends
from varlen.model.geometry import Matrix

BLOCK = 128
#: Positions beyond this (in pixels) count as this: far outside any picture.
FAR = 1e6
#: Bends are followed back at most at every so many pixels of a row, and straight in between …
STRIDE = 4
#: … and at least so many times between two control points.
SAMPLES = 12


def way_back(bends: Bends, matrix: Matrix) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.int64], NDArray[np.float64]]:
    """The inverse matrices in the order in which a pixel is followed back, and the fields after each."""
    inverses = [matrix.inverse(), *(before.inverse() for before, _ in reversed(bends))]
    controls = [control_points(field) for _, field in reversed(bends)]
    offsets = np.cumsum([0] + [control.size for control in controls])
    grids = np.array([[offset, *control.shape[:2]] for offset, control in zip(offsets, controls, strict=False)], np.int64).reshape(-1, 3)
    steps = np.array([field.steps for _, field in reversed(bends)], np.float64).reshape(-1, 2)
    return np.array(inverses, np.float64), np.concatenate([control.ravel() for control in controls] or [np.zeros(0)]), grids, steps


def warp_mapped(source: Pixels, bends: Bends, matrix: Matrix, out: Pixels, window: tuple[int, int, int, int],
                edges: str | None, edge_color: tuple[int, int, int]) -> None:  # fmt: skip
    """Fill `window` of `out` with `source` after `bends` and `matrix` (points of `source` to points of `out`), bilinear.

    source, out: (H, W, 3) uint8, `out` contiguous; edges as for `warp`.
    """
    source = np.ascontiguousarray(source)
    x0, y0, x1, y1 = window
    _warp(source.reshape(-1), source.shape[0], source.shape[1], out.reshape(-1), out.shape[1], x0, y0, x1 - x0, y1 - y0,
          *way_back(bends, matrix), EDGES[edges], packed(edge_color))  # fmt: skip


def nearest_mapped(source: NDArray[np.integer[Any]], left: int, top: int, bends: Bends, matrix: Matrix, out: NDArray[np.integer[Any]],
                   window: tuple[int, int, int, int], edges: str | None, outside: int) -> None:  # fmt: skip
    """Fill `window` of `out` with the nearest pixel of `source`, whose first pixel is at column `left`, row `top`.

    source, out: (H, W) of one type; pixels that the source does not reach become `outside` with solid edges.
    """
    _nearest(np.ascontiguousarray(source), left, top, out, *window, *way_back(bends, matrix), EDGES[edges], outside)


@kernel
def _follow(inverses, flat, grids, steps, x, y):
    """The place in the source of one place in the output."""
    for n in range(inverses.shape[0]):
        w = inverses[n, 6] * x + inverses[n, 7] * y + inverses[n, 8]
        if not w > 1e-9:
            return -FAR, -FAR
        x, y = (inverses[n, 0] * x + inverses[n, 1] * y + inverses[n, 2]) / w, (inverses[n, 3] * x + inverses[n, 4] * y + inverses[n, 5]) / w
        if n < grids.shape[0]:
            dx, dy = displacement(flat, grids[n, 0], grids[n, 1], grids[n, 2], steps[n, 0], steps[n, 1], x, y)
            x, y = x + dx, y + dy
    return min(max(x, -FAR), FAR), min(max(y, -FAR), FAR)


@kernel
def _perspective(inverses, x0, y, xs, ys, count):
    """Source places of a row of pixels through one matrix, worked out for several at a time."""
    a, b, c, d, e, f, g, h, i = (inverses[0, 0], inverses[0, 1], inverses[0, 2], inverses[0, 3], inverses[0, 4], inverses[0, 5],
                                 inverses[0, 6], inverses[0, 7], inverses[0, 8])  # fmt: skip
    for n in range(count):
        x = x0 + n
        w = g * x + h * y + i
        behind = w <= 1e-9
        w = 1.0 if behind else w
        u, v = (a * x + b * y + c) / w, (d * x + e * y + f) / w
        xs[n] = -FAR if behind else min(max(u, -FAR), FAR)
        ys[n] = -FAR if behind else min(max(v, -FAR), FAR)


@kernel
def line_back(inverses, controls, grids, steps, x0, y, xs, ys, count):
    """Source places of `count` pixels of a row.

    Between every few pixels a bend is taken as straight: at most 1/30 px off for bends of
    usual strength, 1/10 px for the strongest.
    """
    if grids.shape[0] == 0:
        _perspective(inverses, x0, y, xs, ys, count)
        return
    stride = min(max(int(steps.min()) // SAMPLES, 1), STRIDE)
    xs[0], ys[0] = _follow(inverses, controls, grids, steps, x0, y)
    for n in range(0, count - 1, stride):
        step = min(stride, count - 1 - n)
        xs[n + step], ys[n + step] = _follow(inverses, controls, grids, steps, x0 + n + step, y)
        for k in range(1, step):
            t = k / step
            xs[n + k] = xs[n] + (xs[n + step] - xs[n]) * t
            ys[n + k] = ys[n] + (ys[n + step] - ys[n]) * t


@kernel
def _fixed(xs, ys, us, vs, count):
    one = 4294967296.0
    for n in range(count):
        us[n], vs[n] = np.int64(np.floor((xs[n] - 0.5) * one)), np.int64(np.floor((ys[n] - 0.5) * one))


@kernel
def _look(flat, height, width, edges, us, vs, pixels, count):
    """The source's pixels at `count` places; wide reads where the whole neighbourhood lies inside."""
    stride = np.int64(3 * width)
    for n in range(count):
        k = np.uint64(n)
        u, v = us[k], vs[k]
        i, j = u >> 32, v >> 32
        if 0 <= i < width - 2 and 0 <= j < height - 1:
            pixels[k] = blend_at(flat, np.uint64(j * stride + 3 * i), stride, u, v)
        else:
            pixels[k] = between(flat, height, width, edges, u, v)


@kernel
def _leave_out(width, height, xs, ys, pixels, count, color):
    for n in range(count):
        if not (0.0 <= xs[n] < width and 0.0 <= ys[n] < height):
            pixels[n] = color


@kernel
def _warp(flat, height, width, out, stride, left_column, top_row, columns, rows, inverses, controls, grids, steps, edges, color):
    xs, ys = np.empty(BLOCK, np.float64), np.empty(BLOCK, np.float64)
    us, vs, pixels = np.empty(BLOCK, np.int64), np.empty(BLOCK, np.int64), np.empty(BLOCK, np.uint32)
    for row in range(rows):
        begin = 3 * ((top_row + row) * stride + left_column)
        line = out[begin : begin + 3 * columns]
        start = 0
        while start < columns:
            count = min(BLOCK, columns - start)
            line_back(inverses, controls, grids, steps, left_column + start + 0.5, top_row + row + 0.5, xs, ys, count)
            _fixed(xs, ys, us, vs, count)
            _look(flat, height, width, edges, us, vs, pixels, count)
            if edges == 0:
                _leave_out(width, height, xs, ys, pixels, count, color)
            for n in range(count):
                put(line, start + n, columns, pixels[n])
            start += count


@kernel
def _nearest(source, left, top, out, x0, y0, x1, y1, inverses, controls, grids, steps, edges, outside):
    height, width = source.shape
    xs, ys = np.empty(x1 - x0, np.float64), np.empty(x1 - x0, np.float64)
    for row in range(y0, y1):
        line_back(inverses, controls, grids, steps, x0 + 0.5, row + 0.5, xs, ys, x1 - x0)
        for n in range(x1 - x0):
            i, j = int(np.floor(xs[n])) - left, int(np.floor(ys[n])) - top
            if edges == 0 and not (0 <= i < width and 0 <= j < height):
                out[row, x0 + n] = outside
            else:
                out[row, x0 + n] = source[fold(j, height, edges), fold(i, width, edges)]
