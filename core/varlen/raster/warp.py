"""Affine resampling of pixels, bilinear, in fixed point.

For each output pixel centre the source position is followed in 32.32 fixed point along the
row; where the whole 2×2 neighbourhood lies inside the source, blocks of pixels are gathered
into flat buffers and interpolated with 8-bit weights in a loop the compiler can vectorise.
Whole numbers throughout, so the bytes are the same on every processor.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from varlen.geometry import Matrix
from varlen.raster.jit import kernel

Pixels = NDArray[np.uint8]

ONE = 1 << 32
HALF = 1 << 31
BLOCK = 128
EDGES = {"solid": 0, "extend": 1, "mirror": 2, "wrap": 3, None: 1}


def warp(source: Pixels, inverse: Matrix, out: Pixels, window: tuple[int, int, int, int],
         edges: str | None, edge_color: tuple[int, int, int]) -> None:  # fmt: skip
    """Fill `window` of `out` with `source` seen through `inverse` (points of `out` to points of `source`).

    source, out: (H, W, 3) uint8, rows contiguous. Where the source does not reach, `edges`
    says what to do. The outermost half pixel repeats the border pixel.
    """
    a, b, c, d, e, f = (inverse.a, inverse.b, inverse.c, inverse.d, inverse.e, inverse.f)
    x0, y0, x1, y1 = window
    # Position of the first pixel centre, less half a pixel: index space of the source.
    u = round((a * (x0 + 0.5) + b * (y0 + 0.5) + c - 0.5) * ONE)
    v = round((d * (x0 + 0.5) + e * (y0 + 0.5) + f - 0.5) * ONE)
    color = np.array(edge_color, np.uint8)
    _warp(source, source.reshape(-1), out.reshape(-1), out.shape[1], x0, y0, x1 - x0, y1 - y0, u, v, round(a * ONE), round(d * ONE), round(b * ONE), round(e * ONE), EDGES[edges], color)


@kernel
def _first(start, step, low, count):
    """First index n ≥ 0 with start + n·step ≥ low (for step > 0), at most `count`."""
    if start >= low:
        return 0
    n = -((start - low) // step)
    return min(n, count)


@kernel
def _span(start, step, low, high, count):
    """Indices [first, end) for which low ≤ start + n·step < high."""
    if step == 0:
        return (0, count) if low <= start < high else (0, 0)
    if step > 0:
        return _first(start, step, low, count), _first(start, step, high, count)
    return _first(-start, -step, -high + 1, count), _first(-start, -step, -low + 1, count)


@kernel
def _gather(flat, stride, top_left, top_right, bottom_left, bottom_right, weight_x, weight_y, u, v, du, dv, count):
    """Copy the four neighbours and the weights of `count` pixels into flat buffers.

    Unsigned places: the compiler then need not ask whether they count from the end.
    """
    step = np.uint64(3)
    down = np.uint64(stride)
    for n in range(count):
        place = np.uint64((v >> 32) * stride + 3 * (u >> 32))
        wx = np.uint8(u >> 24)
        wy = np.uint8(v >> 24)
        k = np.uint64(3 * n)
        for channel in range(3):
            c = np.uint64(channel)
            top_left[k + c] = flat[place + c]
            top_right[k + c] = flat[place + step + c]
            bottom_left[k + c] = flat[place + down + c]
            bottom_right[k + c] = flat[place + down + step + c]
            weight_x[k + c] = wx
            weight_y[k + c] = wy
        u += du
        v += dv


@kernel
def _blend(top_left, top_right, bottom_left, bottom_right, weight_x, weight_y, out, count):
    """Interpolate flat buffers: exact to the rounding of 8-bit weights."""
    for n in range(count):
        p = np.int32(top_left[n])
        q = np.int32(bottom_left[n])
        wx = np.int32(weight_x[n])
        upper = np.int32((p << 8) + np.int32(np.int32(top_right[n]) - p) * wx)
        lower = np.int32((q << 8) + np.int32(np.int32(bottom_right[n]) - q) * wx)
        mixed = np.int32((upper << 8) + np.int32(lower - upper) * np.int32(weight_y[n]))
        out[n] = np.uint8((mixed + 32768) >> 16)


@kernel
def _fold(index, count, edges):
    """A source index brought inside 0 … count − 1."""
    if 0 <= index < count:
        return index
    if edges == 2:
        index = index % (2 * count)
        return index if index < count else 2 * count - 1 - index
    if edges == 3:
        return index % count
    return 0 if index < 0 else count - 1


@kernel
def _careful(source, line, u, v, du, dv, first, end, edges, color):
    """Pixels near or beyond the border, one by one."""
    height, width = source.shape[0], source.shape[1]
    low, half = -(1 << 31), 1 << 31
    right, bottom = (width << 32) - half, (height << 32) - half
    u += du * first
    v += dv * first
    for n in range(first, end):
        if edges == 0 and (u < low or v < low or u >= right or v >= bottom):
            for channel in range(3):
                line[3 * n + channel] = color[channel]
        else:
            x = _fold(u >> 32, width, edges)
            y = _fold(v >> 32, height, edges)
            x1 = _fold((u >> 32) + 1, width, edges)
            y1 = _fold((v >> 32) + 1, height, edges)
            wx = (u >> 24) & 255
            wy = (v >> 24) & 255
            for channel in range(3):
                p = np.int64(source[y, x, channel])
                q = np.int64(source[y1, x, channel])
                upper = (p << 8) + (np.int64(source[y, x1, channel]) - p) * wx
                lower = (q << 8) + (np.int64(source[y1, x1, channel]) - q) * wx
                line[3 * n + channel] = np.uint8(((upper << 8) + (lower - upper) * wy + 32768) >> 16)
        u += du
        v += dv


@kernel
def _paint(line, first, end, color):
    for n in range(first, end):
        line[3 * n] = color[0]
        line[3 * n + 1] = color[1]
        line[3 * n + 2] = color[2]


@kernel
def _warp(source, flat, out, stride, left_column, top_row, columns, rows, u0, v0, du, dv, row_u, row_v, edges, color):
    height, width = source.shape[0], source.shape[1]
    half = np.int64(1) << 31
    top_left = np.empty(3 * BLOCK, np.uint8)
    top_right = np.empty(3 * BLOCK, np.uint8)
    bottom_left = np.empty(3 * BLOCK, np.uint8)
    bottom_right = np.empty(3 * BLOCK, np.uint8)
    weight_x = np.empty(3 * BLOCK, np.uint8)
    weight_y = np.empty(3 * BLOCK, np.uint8)
    for row in range(rows):
        u = u0 + row * row_u
        v = v0 + row * row_v
        begin = 3 * ((top_row + row) * stride + left_column)
        line = out[begin : begin + 3 * columns]
        first_u, end_u = _span(u, du, np.int64(0), np.int64(width - 1) << 32, columns)
        first_v, end_v = _span(v, dv, np.int64(0), np.int64(height - 1) << 32, columns)
        first, end = max(first_u, first_v), min(end_u, end_v)
        if first >= end:
            first = end = columns
        left, right = np.int64(0), np.int64(columns)
        if edges == 0:
            # Only pixels whose centre falls inside the source are looked at; the rest is color.
            first_u, end_u = _span(u, du, -half, (np.int64(width) << 32) - half, columns)
            first_v, end_v = _span(v, dv, -half, (np.int64(height) << 32) - half, columns)
            left, right = max(first_u, first_v), min(end_u, end_v)
            if left >= right:
                _paint(line, 0, columns, color)
                continue
            _paint(line, 0, left, color)
            _paint(line, right, columns, color)
            if first == columns:
                first = end = right
        _careful(source, line, u, v, du, dv, left, first, edges, color)
        start = first
        while start < end:
            count = min(BLOCK, end - start)
            _gather(flat, 3 * width, top_left, top_right, bottom_left, bottom_right, weight_x, weight_y,
                    u + start * du, v + start * dv, du, dv, count)  # fmt: skip
            _blend(top_left, top_right, bottom_left, bottom_right, weight_x, weight_y, line[3 * start : 3 * (start + count)], 3 * count)
            start += count
        _careful(source, line, u, v, du, dv, end, right, edges, color)
