"""Affine resampling of pixels, bilinear, in fixed point.

For each output pixel centre the source position is followed in 32.32 fixed point along the
row. Blocks of pixels are gathered into flat buffers, four bytes a pixel, and interpolated
with 8-bit weights in a loop the compiler can vectorise. Where the whole 2×2 neighbourhood
lies inside the source two wide reads fetch it; near and beyond the border the four pixels
are looked up one by one. Whole numbers throughout, so the bytes are the same on every
processor.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from varlen.geometry import Matrix
from varlen.raster.jit import kernel
from varlen.raster.wide import load32, load64, store32

Pixels = NDArray[np.uint8]

ONE = 1 << 32
HALF = 1 << 31
BLOCK = 128
EDGES = {"solid": 0, "extend": 1, "mirror": 2, "wrap": 3, None: 1}


def warp(source: Pixels, inverse: Matrix, out: Pixels, window: tuple[int, int, int, int],
         edges: str | None, edge_color: tuple[int, int, int]) -> None:  # fmt: skip
    """Fill `window` of `out` with `source` seen through `inverse` (points of `out` to points of `source`).

    source, out: (H, W, 3) uint8, `out` contiguous. Where the source does not reach, `edges`
    says what to do. The outermost half pixel repeats the border pixel.
    """
    source = np.ascontiguousarray(source)
    a, b, c, d, e, f = (inverse.a, inverse.b, inverse.c, inverse.d, inverse.e, inverse.f)
    x0, y0, x1, y1 = window
    # Position of the first pixel centre, less half a pixel: index space of the source.
    u = round((a * (x0 + 0.5) + b * (y0 + 0.5) + c - 0.5) * ONE)
    v = round((d * (x0 + 0.5) + e * (y0 + 0.5) + f - 0.5) * ONE)
    color = np.array(edge_color, np.uint8)
    _warp(
        source.reshape(-1),
        source.shape[0],
        source.shape[1],
        out.reshape(-1),
        out.shape[1],
        x0,
        y0,
        x1 - x0,
        y1 - y0,
        u,
        v,
        round(a * ONE),
        round(d * ONE),
        round(b * ONE),
        round(e * ONE),
        EDGES[edges],
        color,
    )


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
def first_and_end(u, v, du, dv, width, height, count):
    """Indices [first, end) along a row for which 0 ≤ u + n·du < width and 0 ≤ v + n·dv < height; `count`, `count` where there are none."""
    first_u, end_u = _span(u, du, np.int64(0), width, count)
    first_v, end_v = _span(v, dv, np.int64(0), height, count)
    first, end = max(first_u, first_v), min(end_u, end_v)
    return (first, end) if first < end else (count, count)


@kernel
def _gather(flat, stride, corners, weight_x, weight_y, u, v, du, dv, count):
    """Neighbours and weights of `count` pixels whose 2×2 neighbourhood lies inside the source.

    Unsigned places: the compiler then need not ask whether they count from the end.
    """
    top_left, top_right, bottom_left, bottom_right = corners[0], corners[1], corners[2], corners[3]
    for n in range(count):
        k = np.uint64(n)
        place = np.uint64((v >> 32) * stride + 3 * (u >> 32))
        top = load64(flat, place)
        bottom = load64(flat, place + np.uint64(stride))
        top_left[k] = np.uint32(top)
        top_right[k] = np.uint32(top >> np.uint64(24))
        bottom_left[k] = np.uint32(bottom)
        bottom_right[k] = np.uint32(bottom >> np.uint64(24))
        weight_x[k] = np.uint32(((u >> 24) & 255) * 0x01010101)
        weight_y[k] = np.uint32(((v >> 24) & 255) * 0x01010101)
        u += du
        v += dv


@kernel
def fold(index, count, edges):
    """A source index brought inside 0 … count − 1."""
    if 0 <= index < count:
        return index
    if edges == 2:
        index = -1 - index if index < 0 else 2 * count - 1 - index
        if 0 <= index < count:
            return index
        index = index % (2 * count)
        return index if index < count else 2 * count - 1 - index
    if edges == 3:
        return index % count
    return 0 if index < 0 else count - 1


@kernel
def pixel_at(flat, place):
    """Three bytes of a pixel; the last pixel of the picture is read from one byte before."""
    last = np.uint64(flat.size - 4)
    if place > last:
        return load32(flat, last) >> np.uint32(8)
    return load32(flat, place)


@kernel
def _gather_folded(flat, height, width, edges, corners, weight_x, weight_y, u, v, du, dv, count):
    """As `_gather`, for pixels near or beyond the border."""
    for n in range(count):
        k = np.uint64(n)
        x, y = u >> 32, v >> 32
        left, right = 3 * fold(x, width, edges), 3 * fold(x + 1, width, edges)
        top, bottom = 3 * width * fold(y, height, edges), 3 * width * fold(y + 1, height, edges)
        corners[0, k] = pixel_at(flat, np.uint64(top + left))
        corners[1, k] = pixel_at(flat, np.uint64(top + right))
        corners[2, k] = pixel_at(flat, np.uint64(bottom + left))
        corners[3, k] = pixel_at(flat, np.uint64(bottom + right))
        weight_x[k] = np.uint32(((u >> 24) & 255) * 0x01010101)
        weight_y[k] = np.uint32(((v >> 24) & 255) * 0x01010101)
        u += du
        v += dv


@kernel
def blend(top_left, top_right, bottom_left, bottom_right, weight_x, weight_y, out, count):
    """Interpolate flat buffers byte by byte: exact to the rounding of 8-bit weights."""
    for n in range(count):
        wx = np.uint16(weight_x[n])
        rest = np.uint16(np.uint16(256) - wx)
        upper = np.uint16(np.uint16(np.uint16(top_left[n]) * rest) + np.uint16(np.uint16(top_right[n]) * wx))
        lower = np.uint16(np.uint16(np.uint16(bottom_left[n]) * rest) + np.uint16(np.uint16(bottom_right[n]) * wx))
        wy = np.int32(weight_y[n])
        mixed = np.int32(np.int32(np.int32(upper) * np.int32(256 - wy)) + np.int32(np.int32(lower) * wy))
        out[n] = np.uint8((mixed + 32768) >> 16)


@kernel
def pack(mixed, line, first, count):
    """Four bytes a pixel to three; each write but the last spills into the pixel that follows it."""
    for n in range(count - 1):
        store32(line, np.uint64(3 * (first + n)), mixed[np.uint64(n)])
    last = mixed[count - 1]
    for channel in range(3):
        line[3 * (first + count - 1) + channel] = np.uint8(last >> np.uint32(8 * channel))


@kernel
def _paint(line, first, end, color):
    for n in range(first, end):
        line[3 * n] = color[0]
        line[3 * n + 1] = color[1]
        line[3 * n + 2] = color[2]


@kernel
def _warp(flat, height, width, out, stride, left_column, top_row, columns, rows, u0, v0, du, dv, row_u, row_v, edges, color):
    half = np.int64(1) << 31
    corners = np.empty((4, BLOCK), np.uint32)
    weight_x = np.empty(BLOCK, np.uint32)
    weight_y = np.empty(BLOCK, np.uint32)
    mixed = np.empty(BLOCK, np.uint32)
    bytes_of = corners.view(np.uint8)
    for row in range(rows):
        u = u0 + row * row_u
        v = v0 + row * row_v
        begin = 3 * ((top_row + row) * stride + left_column)
        line = out[begin : begin + 3 * columns]
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
        # A wide read takes two bytes more than two pixels: the last column but one is left out.
        first_u, end_u = _span(u, du, np.int64(0), np.int64(width - 2) << 32, columns)
        first_v, end_v = _span(v, dv, np.int64(0), np.int64(height - 1) << 32, columns)
        first, end = max(first_u, first_v), min(end_u, end_v)
        if first >= end:
            first = end = right
        start = left
        while start < right:
            if start < first:
                count = min(BLOCK, first - start)
            elif start < end:
                count = min(BLOCK, end - start)
            else:
                count = min(BLOCK, right - start)
            if first <= start < end:
                _gather(flat, 3 * width, corners, weight_x, weight_y, u + start * du, v + start * dv, du, dv, count)
            else:
                _gather_folded(flat, height, width, edges, corners, weight_x, weight_y, u + start * du, v + start * dv, du, dv, count)
            blend(bytes_of[0], bytes_of[1], bytes_of[2], bytes_of[3], weight_x.view(np.uint8), weight_y.view(np.uint8),
                   mixed.view(np.uint8), 4 * count)  # fmt: skip
            pack(mixed, line, start, count)
            start += count
