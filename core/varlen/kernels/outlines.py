"""Compiled loops over outlines: clipping and filling them, tracing masks."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.jit import kernel
from varlen.model.geometry import Rect


def fill_outline(rings: list[NDArray[np.float64]], left: int, top: int, shape: tuple[int, int]) -> NDArray[np.uint8]:
    """The pixels of a (h, w) picture, its corner at (left, top), whose centres an odd number of rings encloses."""
    out = np.zeros(shape, np.uint8)
    _fill(np.concatenate(rings) - [left, top], np.cumsum([0] + [len(ring) for ring in rings]), out)
    return out


def trace_outlines(mask: NDArray[np.uint8]) -> list[NDArray[np.int64]]:
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
def _cut(ring, begin, count, side, window, out):
    """What one side of `window` (left, top, right, bottom) leaves of a ring, `count` points from `begin` on, in `out`.

    Returns the number of points left, how often the ring crosses the side, and how many corners lie on it.
    """
    axis, limit = side & 1, window[side]
    sign = 1.0 if side < 2 else -1.0
    kept = crossed = touching = 0
    for n in range(count):
        m, n = begin + (n - 1 if n > 0 else count - 1), begin + n
        a, b = sign * (ring[m, axis] - limit), sign * (ring[n, axis] - limit)
        touching += b == 0.0
        if (a >= 0.0) != (b >= 0.0):
            crossed += 1
            t = a / (a - b)
            out[kept, 1 - axis] = ring[m, 1 - axis] + t * (ring[n, 1 - axis] - ring[m, 1 - axis])
            out[kept, axis] = limit
            kept += 1
        if b >= 0.0:
            out[kept, 0], out[kept, 1] = ring[n, 0], ring[n, 1]
            kept += 1
    return kept, crossed, touching


@kernel
def clip_ring(points, begin, end, window, one, two):
    """The ring inside `window` in `one`, side by side (Sutherland and Hodgman, 1974); returns its number of points."""
    count, _, _ = _cut(points, begin, end - begin, 0, window, two)
    count, _, _ = _cut(two, 0, count, 1, window, one)
    count, _, _ = _cut(one, 0, count, 2, window, two)
    count, _, _ = _cut(two, 0, count, 3, window, one)
    return count


#: Longer rings are not compared edge by edge.
MOST_EDGES = 256


def clipped_ring(ring: NDArray[np.float64], window: Rect) -> NDArray[np.float64] | None:
    """The part of a ring (N, 2) inside `window` where that is one piece, perhaps of no points; None where it takes more than this.

    That is so when the ring does not cross itself, and every border line of the window crosses it
    at most twice, and not at its corners.
    """
    one, two = np.empty((2 * len(ring) + 16, 2)), np.empty((2 * len(ring) + 16, 2))
    count = _clip_plain(np.ascontiguousarray(ring), window, one, two)
    return None if count < 0 else one[:count]


@kernel
def _clip_plain(ring, window, one, two):
    """As `clip_ring`, for plain cases only: −1 for others."""
    count = ring.shape[0]
    if count > MOST_EDGES or _crosses_itself(ring):
        return -1
    for side in range(4):
        count, crossed, touching = _cut(ring if side == 0 else two if side % 2 else one, 0, count, side, window, one if side % 2 else two)
        # Corners on the border of a ring that crosses it may leave edges along it that lead nowhere.
        if crossed > 2 or (crossed and touching):
            return -1
    return count


@kernel
def _crosses_itself(ring):
    """Whether two edges that are not neighbours meet, or an edge runs back along the one before."""
    count = ring.shape[0]
    for n in range(count):
        m, k = n - 1 if n > 0 else count - 1, n + 1 if n + 1 < count else 0
        px, py, qx, qy = ring[n, 0] - ring[m, 0], ring[n, 1] - ring[m, 1], ring[k, 0] - ring[n, 0], ring[k, 1] - ring[n, 1]
        if px * qy == py * qx and px * qx + py * qy <= 0.0:
            return True
    for i in range(count - 2):
        ax, ay, bx, by = ring[i, 0], ring[i, 1], ring[i + 1, 0], ring[i + 1, 1]
        for j in range(i + 2, count):
            k = j + 1 if j + 1 < count else 0
            if k == i:
                continue
            cx, cy, dx, dy = ring[j, 0], ring[j, 1], ring[k, 0], ring[k, 1]
            if max(cx, dx) < min(ax, bx) or min(cx, dx) > max(ax, bx) or max(cy, dy) < min(ay, by) or min(cy, dy) > max(ay, by):
                continue
            p = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
            q = (bx - ax) * (dy - ay) - (by - ay) * (dx - ax)
            r = (dx - cx) * (ay - cy) - (dy - cy) * (ax - cx)
            s = (dx - cx) * (by - cy) - (dy - cy) * (bx - cx)
            if p * q <= 0.0 and r * s <= 0.0:
                return True
    return False


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
