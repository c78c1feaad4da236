"""Affine resampling of pixels, bilinear, in fixed point.

For each output pixel centre the source position is followed in 32.32 fixed point along the
row. Where the whole 2×2 neighbourhood lies inside the source two wide reads fetch it; near
and beyond the border the four pixels are looked up one by one. The three channels are then
interpolated at once with 8-bit weights (`packed_pixels.blend2x2`). Whole numbers throughout, so the
bytes are the same on every processor.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.jit import kernel
from varlen.kernels.packed_pixels import blend2x2, load32, load64, store32
from varlen.model.geometry import Matrix

Pixels = NDArray[np.uint8]

ONE = 1 << 32
#: The width of the bands that are filled one after another, in pixels.
BAND = 256
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
        packed(edge_color),
    )


def packed(color: tuple[int, int, int]) -> np.uint32:
    """A color as the three low bytes of four."""
    return np.uint32(color[0] | color[1] << 8 | color[2] << 16)


@kernel
def _first(start, step, low, count):
    """First index n ≥ 0 with start + n·step ≥ low (for step > 0), at most `count`."""
    if start >= low:
        return np.int64(0)
    # A quotient of floats is quicker than one of whole numbers; it is right but for one, which is put right.
    guess = np.float64(low - start) / np.float64(step)
    if guess >= np.float64(count):
        return np.int64(count)
    n = np.int64(guess)
    while start + n * step < low:
        n += 1
    while n > 0 and start + (n - 1) * step >= low:
        n -= 1
    return min(n, np.int64(count))


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
def _pixel_at(flat, place):
    """Three bytes of a pixel, as the low ones of eight; the last pixel of the picture is read from one byte before."""
    last = np.uint64(flat.size - 4)
    if place > last:
        return np.uint64(load32(flat, last) >> np.uint32(8))
    return np.uint64(load32(flat, place) & np.uint32(0xFFFFFF))


@kernel
def blend_at(flat, place, stride, u, v):
    """The 2×2 pixels whose first byte is at `place`, with lines of `stride` bytes, interpolated by the fractions of u and v (32.32)."""
    return blend2x2(load64(flat, place), load64(flat, place + np.uint64(stride)), np.uint32((u >> 24) & 255), np.uint32((v >> 24) & 255))


@kernel
def between(flat, height, width, edges, u, v):
    """The pixel at a place of the source, in index space and 32.32 fixed point, wherever it is."""
    x, y = u >> 32, v >> 32
    if 0 <= x < width - 2 and 0 <= y < height - 1:
        return blend_at(flat, np.uint64(3 * (y * width + x)), 3 * width, u, v)
    left, right = 3 * fold(x, width, edges), 3 * fold(x + 1, width, edges)
    upper, lower = 3 * width * fold(y, height, edges), 3 * width * fold(y + 1, height, edges)
    top = _pixel_at(flat, np.uint64(upper + left)) | _pixel_at(flat, np.uint64(upper + right)) << np.uint64(24)
    bottom = _pixel_at(flat, np.uint64(lower + left)) | _pixel_at(flat, np.uint64(lower + right)) << np.uint64(24)
    return blend2x2(top, bottom, np.uint32((u >> 24) & 255), np.uint32((v >> 24) & 255))


@kernel
def put(line, place, columns, pixel):
    """Write pixel `place` of a line of `columns`. All but the last spill a byte into the next, which is to be written after it."""
    if place < columns - 1:
        store32(line, np.uint64(3 * place), pixel)
    else:
        for channel in range(3):
            line[3 * place + channel] = np.uint8(pixel >> np.uint32(8 * channel))


@kernel
def _inside(flat, stride, line, first, end, u, v, du, dv):
    """Pixels whose 2×2 neighbourhood lies inside the source, none of them the last of the line."""
    for n in range(first, end):
        store32(line, np.uint64(3 * n), blend_at(flat, np.uint64((v >> 32) * stride + 3 * (u >> 32)), stride, u, v))
        u += du
        v += dv


@kernel
def _steps_within(start, step, low, high):
    """How many of start, start + step, … are in [low, high) one after another; the first is."""
    if step == 0:
        return np.int64(1) << 40
    return (high - 1 - start) // step + 1 if step > 0 else (start - low) // -step + 1


@kernel
def _repeated(flat, height, width, edges, line, n, end, u, v, du, dv):
    """Pixels from `n` on in one of the source's repetitions by mirror or wrap, as far as it goes; returns where that is, `n` near its border."""
    x, y = u >> 32, v >> 32
    tile_x, tile_y = x // width, y // height
    if not (1 <= x - tile_x * width <= width - 3 and y - tile_y * height <= height - 2):
        return n
    left, top = tile_x * width, tile_y * height
    across = _steps_within(u, du, (left + 1) << 32, (left + width - 2) << 32)
    stop = min(end, n + min(across, _steps_within(v, dv, top << 32, (top + height - 1) << 32)))
    # Source columns and rows run backwards in every second repetition of a mirror.
    way_x, first_x, weight_x = np.int64(1), -left, np.int64(0)
    way_y, first_y = np.int64(1), -top
    if edges == 2 and tile_x % 2:
        way_x, first_x, weight_x = np.int64(-1), left + width - 2, np.int64(256)
    if edges == 2 and tile_y % 2:
        way_y, first_y = np.int64(-1), top + height - 1
    stride = 3 * width
    for k in range(n, stop):
        place = (first_y + way_y * (v >> 32)) * stride + 3 * (first_x + way_x * (u >> 32))
        upper, lower = load64(flat, np.uint64(place)), load64(flat, np.uint64(place + way_y * stride))
        store32(line, np.uint64(3 * k), blend2x2(upper, lower, np.uint32(weight_x + way_x * ((u >> 24) & 255)), np.uint32((v >> 24) & 255)))
        u += du
        v += dv
    return stop


@kernel
def _anywhere(flat, height, width, edges, line, first, end, columns, u0, v0, du, dv):
    """As `_inside`, for pixels near or beyond the border of the source, and the last of a line; (u0, v0): the place of pixel 0."""
    n = first
    while n < end:
        u, v = u0 + n * du, v0 + n * dv
        if edges >= 2:
            reached = _repeated(flat, height, width, edges, line, n, min(end, columns - 1), u, v, du, dv)
            if reached > n:
                n = reached
                continue
        put(line, n, columns, between(flat, height, width, edges, u, v))
        n += 1


@kernel
def _paint(line, first, end, columns, color):
    for n in range(first, end):
        put(line, n, columns, color)


@kernel
def _spans(height, width, columns, u, v, du, dv, edges, span):
    """Where a row's parts end: what is left of the source, near its border, inside it, near its border again; the rest is right of it."""
    half = np.int64(1) << 31
    left, right = np.int64(0), np.int64(columns)
    if edges == 0:
        # Only pixels whose centre falls inside the source are sampled; the rest is color.
        first_u, end_u = _span(u, du, -half, (np.int64(width) << 32) - half, columns)
        first_v, end_v = _span(v, dv, -half, (np.int64(height) << 32) - half, columns)
        left, right = max(first_u, first_v), min(end_u, end_v)
        if left >= right:
            left = right = np.int64(columns)
    # A wide read takes two bytes more than two pixels: the last column but one is left out.
    first_u, end_u = _span(u, du, np.int64(0), np.int64(width - 2) << 32, columns)
    first_v, end_v = _span(v, dv, np.int64(0), np.int64(height - 1) << 32, columns)
    first, end = max(first_u, first_v), min(end_u, end_v, columns - 1)
    if first >= end:
        first = end = right
    span[0], span[1], span[2], span[3] = left, first, end, right


@kernel
def _warp(flat, height, width, out, stride, left_column, top_row, columns, rows, u0, v0, du, dv, row_u, row_v, edges, color):
    spans = np.empty((rows, 4), np.int64)
    for row in range(rows):
        _spans(height, width, columns, u0 + row * row_u, v0 + row * row_v, du, dv, edges, spans[row])
    # A turned row passes through many of the source's: in upright bands these stay near the processor until the next row needs them.
    for begin in range(0, columns, BAND):
        stop = min(begin + BAND, columns)
        for row in range(rows):
            u, v = u0 + row * row_u, v0 + row * row_v
            start = 3 * ((top_row + row) * stride + left_column)
            line = out[start : start + 3 * columns]
            left, first = min(max(spans[row, 0], begin), stop), min(max(spans[row, 1], begin), stop)
            end, right = min(max(spans[row, 2], begin), stop), min(max(spans[row, 3], begin), stop)
            # From the left, as each pixel spills into the next.
            _paint(line, begin, left, columns, color)
            _anywhere(flat, height, width, edges, line, left, first, columns, u, v, du, dv)
            _inside(flat, 3 * width, line, first, end, u + first * du, v + first * dv, du, dv)
            _anywhere(flat, height, width, edges, line, end, right, columns, u, v, du, dv)
            _paint(line, right, stop, columns, color)
