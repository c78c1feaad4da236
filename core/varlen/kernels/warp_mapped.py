"""Resampling through transforms that are not affine: perspectives, and bends between matrices.

Where each output pixel's centre comes from is followed back in float64, step by step; every
processor rounds these multiplications, additions and divisions alike. The positions then go
into the same fixed point and the same interpolation as for affine moves.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.bends import control_points, displacement, pieces
from varlen.kernels.jit import kernel
from varlen.kernels.warp_affine import EDGES, Pixels, between, blend_at, fold, packed, put
from varlen.model.effects import Bends
from varlen.model.geometry import Matrix

BLOCK = 128
LINE, TWO, THREE, FOUR = np.uint64(BLOCK), np.uint64(2), np.uint64(3), np.uint64(4)
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
def _through(inverses, n, xs, ys, behind):
    """Places through the n-th matrix; those behind its horizon are marked."""
    a, b, c, d, e, f, g, h, i = (inverses[n, 0], inverses[n, 1], inverses[n, 2], inverses[n, 3], inverses[n, 4], inverses[n, 5],
                                 inverses[n, 6], inverses[n, 7], inverses[n, 8])  # fmt: skip
    for k in range(xs.size):
        x, y = xs[k], ys[k]
        w = g * x + h * y + i
        hidden = not w > 1e-9
        behind[k] |= hidden
        w = 1.0 if hidden else w
        xs[k], ys[k] = (a * x + b * y + c) / w, (d * x + e * y + f) / w


@kernel
def _weights(xs, ys, step_x, step_y, cells, weights):
    """For each place its cell, column and row, and the four pieces of the spline along x and y, a line of `BLOCK` for each."""
    # Unsigned places: the compiler then need not ask whether they count from the end.
    for n in range(xs.size):
        k = np.uint64(n)
        gx, gy = xs[k] / step_x, ys[k] / step_y
        i, j = np.floor(gx), np.floor(gy)
        cells[k], cells[k + LINE] = np.int64(i), np.int64(j)
        p0, p1, p2, p3 = pieces(gx - i)
        q0, q1, q2, q3 = pieces(gy - j)
        weights[k], weights[k + LINE], weights[k + LINE * TWO], weights[k + LINE * THREE] = p0, p1, p2, p3
        m = k + LINE * FOUR
        weights[m], weights[m + LINE], weights[m + LINE * TWO], weights[m + LINE * THREE] = q0, q1, q2, q3


@kernel
def _eight(flat, k):
    """Four control points of a row: x and y of each."""
    one, two, four = np.uint64(1), np.uint64(2), np.uint64(4)
    m = k + four
    return flat[k], flat[k + one], flat[k + two], flat[k + two + one], flat[m], flat[m + one], flat[m + two], flat[m + two + one]


@kernel
def _within_cell(flat, place, line, weights, first, end, xs, ys):
    """Places from `first` to `end` that lie in one cell, moved by the sixteen control points around it, as `displacement` adds them up."""
    c0 = _eight(flat, np.uint64(place))
    c1 = _eight(flat, np.uint64(place + 1 * line))
    c2 = _eight(flat, np.uint64(place + 2 * line))
    c3 = _eight(flat, np.uint64(place + 3 * line))
    for n in range(first, end):
        k = np.uint64(n)
        m = k + LINE * FOUR
        x0, x1, x2, x3 = weights[k], weights[k + LINE], weights[k + LINE * TWO], weights[k + LINE * THREE]
        y0, y1, y2, y3 = weights[m], weights[m + LINE], weights[m + LINE * TWO], weights[m + LINE * THREE]
        dx = dy = 0.0
        w = x0 * y0
        dx, dy = dx + c0[0] * w, dy + c0[1] * w
        w = x1 * y0
        dx, dy = dx + c0[2] * w, dy + c0[3] * w
        w = x2 * y0
        dx, dy = dx + c0[4] * w, dy + c0[5] * w
        w = x3 * y0
        dx, dy = dx + c0[6] * w, dy + c0[7] * w
        w = x0 * y1
        dx, dy = dx + c1[0] * w, dy + c1[1] * w
        w = x1 * y1
        dx, dy = dx + c1[2] * w, dy + c1[3] * w
        w = x2 * y1
        dx, dy = dx + c1[4] * w, dy + c1[5] * w
        w = x3 * y1
        dx, dy = dx + c1[6] * w, dy + c1[7] * w
        w = x0 * y2
        dx, dy = dx + c2[0] * w, dy + c2[1] * w
        w = x1 * y2
        dx, dy = dx + c2[2] * w, dy + c2[3] * w
        w = x2 * y2
        dx, dy = dx + c2[4] * w, dy + c2[5] * w
        w = x3 * y2
        dx, dy = dx + c2[6] * w, dy + c2[7] * w
        w = x0 * y3
        dx, dy = dx + c3[0] * w, dy + c3[1] * w
        w = x1 * y3
        dx, dy = dx + c3[2] * w, dy + c3[3] * w
        w = x2 * y3
        dx, dy = dx + c3[4] * w, dy + c3[5] * w
        w = x3 * y3
        dx, dy = dx + c3[6] * w, dy + c3[7] * w
        xs[k], ys[k] = xs[k] + dx, ys[k] + dy


@kernel
def _bent(flat, begin, rows, columns, step_x, step_y, xs, ys, cells, weights):
    """Places moved by a field; those of one cell together."""
    _weights(xs, ys, step_x, step_y, cells, weights)
    first = 0
    while first < xs.size:
        i, j = cells[first], cells[first + BLOCK]
        end = first + 1
        while end < xs.size and cells[end] == i and cells[end + BLOCK] == j:
            end += 1
        if 1 <= i < columns - 2 and 1 <= j < rows - 2:
            _within_cell(flat, begin + 2 * ((j - 1) * columns + i - 1), 2 * columns, weights, first, end, xs, ys)
        else:
            for k in range(first, end):
                dx, dy = displacement(flat, begin, rows, columns, step_x, step_y, xs[k], ys[k])
                xs[k], ys[k] = xs[k] + dx, ys[k] + dy
        first = end


@kernel
def _follow(inverses, flat, grids, steps, xs, ys, behind, cells, weights):
    """Places in the output become places in the source."""
    behind[:] = False
    for n in range(inverses.shape[0]):
        _through(inverses, n, xs, ys, behind)
        if n < grids.shape[0]:
            _bent(flat, grids[n, 0], grids[n, 1], grids[n, 2], steps[n, 0], steps[n, 1], xs, ys, cells, weights)
    for k in range(xs.size):
        xs[k] = -FAR if behind[k] else min(max(xs[k], -FAR), FAR)
        ys[k] = -FAR if behind[k] else min(max(ys[k], -FAR), FAR)


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
def room_for(count):
    """Room to work in for lines of `count` pixels."""
    return (np.empty(count, np.float64), np.empty(count, np.float64), np.empty(count, np.bool_), np.empty(2 * BLOCK, np.int64),
            np.empty(8 * BLOCK, np.float64))  # fmt: skip


@kernel
def line_back(inverses, controls, grids, steps, x0, y, xs, ys, count, room):
    """Source places of `count` pixels of a row. room: from `room_for`, for as many at least.

    Between every few pixels a bend is taken as straight: at most 1/30 px off for bends of
    usual strength, 1/10 px for the strongest.
    """
    if grids.shape[0] == 0:
        _perspective(inverses, x0, y, xs, ys, count)
        return
    stride = min(max(int(steps.min()) // SAMPLES, 1), STRIDE)
    known = (count - 1 + stride - 1) // stride + 1
    us, vs, behind, cells, weights = room
    for n in range(known):
        us[n], vs[n] = x0 + min(n * stride, count - 1), y
    for n in range(0, known, BLOCK):
        end = min(n + BLOCK, known)
        _follow(inverses, controls, grids, steps, us[n:end], vs[n:end], behind[n:end], cells, weights)
    for n in range(known - 1):
        first, step = n * stride, min(stride, count - 1 - n * stride)
        ax, ay, bx, by = us[n], vs[n], us[n + 1] - us[n], vs[n + 1] - vs[n]
        xs[first], ys[first] = ax, ay
        if step == 4:  # the most common case, without a division
            xs[first + 1], xs[first + 2], xs[first + 3] = ax + bx * 0.25, ax + bx * 0.5, ax + bx * 0.75
            ys[first + 1], ys[first + 2], ys[first + 3] = ay + by * 0.25, ay + by * 0.5, ay + by * 0.75
            continue
        for k in range(1, step):
            t = k / step
            xs[first + k], ys[first + k] = ax + bx * t, ay + by * t
    xs[count - 1], ys[count - 1] = us[known - 1], vs[known - 1]


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
    room = room_for(BLOCK)
    for row in range(rows):
        begin = 3 * ((top_row + row) * stride + left_column)
        line = out[begin : begin + 3 * columns]
        start = 0
        while start < columns:
            count = min(BLOCK, columns - start)
            line_back(inverses, controls, grids, steps, left_column + start + 0.5, top_row + row + 0.5, xs, ys, count, room)
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
    room = room_for(x1 - x0)
    for row in range(y0, y1):
        line_back(inverses, controls, grids, steps, x0 + 0.5, row + 0.5, xs, ys, x1 - x0, room)
        for n in range(x1 - x0):
            i, j = int(np.floor(xs[n])) - left, int(np.floor(ys[n])) - top
            if edges == 0 and not (0 <= i < width and 0 <= j < height):
                out[row, x0 + n] = outside
            else:
                out[row, x0 + n] = source[fold(j, height, edges), fold(i, width, edges)]
