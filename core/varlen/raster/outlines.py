"""Compiled loops over outlines: clipping and filling them, tracing masks."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from varlen.raster.jit import kernel


def filled(rings: list[NDArray[np.float64]], left: int, top: int, shape: tuple[int, int]) -> NDArray[np.uint8]:
    """The pixels of a (h, w) picture, its corner at (left, top), whose centres an odd number of rings encloses."""
    out = np.zeros(shape, np.uint8)
    _fill(np.concatenate(rings) - [left, top], np.cumsum([0] + [len(ring) for ring in rings]), out)
    return out


def traced(mask: NDArray[np.uint8]) -> list[NDArray[np.int64]]:
    """Rings along the pixel borders of a (h, w) mask of 0 and 1, the ones on their right, as corners (N, 2).

    Pixels that touch at a corner only are apart; a ring may touch itself there.
    """
    padded = np.pad(mask, 1)
    ones = int(np.count_nonzero(padded))
    points, starts = np.empty((4 * ones + 4, 2), np.int64), np.empty(ones + 2, np.int64)
    count = _trace(padded, points, starts)
    return [points[starts[n] : starts[n + 1]] - 1 for n in range(count)]


def ring_area(ring: NDArray[np.float64]) -> float:
    """The area that a ring (N, 2) encloses."""
    return float(area_of(np.ascontiguousarray(ring), 0, len(ring)))


@kernel
def area_of(points, begin, end):
    """The shoelace formula, never negative."""
    total = 0.0
    if end - begin < 3:
        return total
    # About the first point, so that far from the origin no digits are lost.
    cx, cy = points[begin, 0], points[begin, 1]
    for n in range(begin + 1, end - 1):
        total += (points[n, 0] - cx) * (points[n + 1, 1] - cy) - (points[n + 1, 0] - cx) * (points[n, 1] - cy)
    return abs(total) / 2.0


@kernel
def clip_ring(points, begin, end, window, one, two):
    """The ring inside `window` in `one`, side by side (Sutherland and Hodgman, 1974); returns its number of points."""
    count = end - begin
    for n in range(count):
        one[n, 0], one[n, 1] = points[begin + n, 0], points[begin + n, 1]
    for side in range(4):
        axis = side & 1
        limit = window[side]
        sign = 1.0 if side < 2 else -1.0
        kept = 0
        for n in range(count):
            m = n - 1 if n > 0 else count - 1
            a, b = sign * (one[m, axis] - limit), sign * (one[n, axis] - limit)
            if (a >= 0.0) != (b >= 0.0):
                t = a / (a - b)
                two[kept, 1 - axis] = one[m, 1 - axis] + t * (one[n, 1 - axis] - one[m, 1 - axis])
                two[kept, axis] = limit
                kept += 1
            if b >= 0.0:
                two[kept, 0], two[kept, 1] = one[n, 0], one[n, 1]
                kept += 1
        count = kept
        for n in range(count):
            one[n, 0], one[n, 1] = two[n, 0], two[n, 1]
    return count


@kernel
def _fill(points, starts, out):
    height, width = out.shape
    for ring in range(starts.size - 1):
        begin, end = starts[ring], starts[ring + 1]
        for n in range(begin, end):
            m = n - 1 if n > begin else end - 1
            xa, ya, xb, yb = points[m, 0], points[m, 1], points[n, 0], points[n, 1]
            if ya == yb:
                continue
            if ya > yb:
                xa, ya, xb, yb = xb, yb, xa, ya
            first, last = max(int(np.ceil(ya - 0.5)), 0), min(int(np.ceil(yb - 0.5)), height)
            for row in range(first, last):
                x = xa + (row + 0.5 - ya) * (xb - xa) / (yb - ya)
                column = max(int(np.ceil(x - 0.5)), 0)
                if column < width:
                    out[row, column] ^= 1
    for row in range(height):
        value = np.uint8(0)
        for column in range(width):
            value ^= out[row, column]
            out[row, column] = value


@kernel
def _trace(mask, points, starts):
    """Fill `points` and `starts`; returns the number of rings. The outermost rows and columns of `mask` are zero."""
    height, width = mask.shape
    seen = np.zeros((height, width), np.uint8)
    rings = count = 0
    starts[0] = 0
    for row in range(1, height):
        for column in range(1, width):
            if not mask[row, column] or mask[row - 1, column] or seen[row, column]:
                continue
            x, y, way = column, row, 0
            while True:
                # A corner is noted, then the border is followed to the next one.
                points[count, 0], points[count, 1] = x, y
                count += 1
                while True:
                    if way == 0:
                        seen[y, x] = 1
                        x += 1
                        right, left = mask[y, x], mask[y - 1, x]
                    elif way == 1:
                        y += 1
                        right, left = mask[y, x - 1], mask[y, x]
                    elif way == 2:
                        x -= 1
                        right, left = mask[y - 1, x - 1], mask[y, x - 1]
                    else:
                        y -= 1
                        right, left = mask[y - 1, x], mask[y - 1, x - 1]
                    if not right:
                        way = (way + 1) & 3
                        break
                    if left:
                        way = (way + 3) & 3
                        break
                if x == column and y == row and way == 0:
                    break
            rings += 1
            starts[rings] = count
    return rings
