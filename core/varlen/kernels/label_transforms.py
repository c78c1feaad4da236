"""Where objects end up when a picture is moved: one compiled loop for one move or for thousands.

The export asks it for one move at a time, the forecast for many: both get the same numbers.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.jit import kernel
from varlen.kernels.outlines import area_of, clip_ring
from varlen.model.geometry import Matrix, Point, Rect, Size, area, clip_polygon
from varlen.model.objects import Objects, Outlines

#: How an object's box is found: from its outline, from its box's corners or the ellipse in it, or not here (masks).
OUTLINE, CORNERS, ELLIPSE, APART = 0, 1, 2, 3
#: Columns of a box, corner by corner.
CORNERS_OF_BOX = np.array([0, 1, 2, 1, 2, 3, 0, 3])
#: Nearer to the horizon of a perspective than this no point has an image (as `geometry.NEAREST`).
NEAREST = 0.02
#: What sticks out of the window by less than this, in px, is inside.
HAIR = 1e-9


class ShapeArrays(NamedTuple):
    """What the loop needs to know of N objects: rings (of outlines, or of boxes for objects without), kinds, boxes and keypoints."""

    points: NDArray[np.float64]
    starts: NDArray[np.int64]
    owners: NDArray[np.int64]
    holes: NDArray[np.bool_]
    kinds: NDArray[np.int64]
    boxes: NDArray[np.float64]
    keypoints: NDArray[np.float64]

    @staticmethod
    def of(objects: Objects, outlines: Outlines, ellipse: bool) -> ShapeArrays:
        """`outlines` are those of the objects, perhaps with more points in them."""
        count = len(objects)
        if not len(outlines.owners) and not any(objects.masks):  # plain boxes, the most common case
            corners = objects.boxes[:, CORNERS_OF_BOX].reshape(-1, 2)
            kinds = np.full(count, ELLIPSE if ellipse else CORNERS, np.int64)
            return ShapeArrays(corners, np.arange(0, 4 * count + 1, 4), np.arange(count), np.zeros(count, np.bool_), kinds, objects.boxes,
                               objects.keypoints)  # fmt: skip
        kinds = np.full(count, ELLIPSE if ellipse else CORNERS, np.int64)
        kinds[outlines.owners] = OUTLINE
        bare = np.flatnonzero(kinds != OUTLINE)
        for place, mask in enumerate(objects.masks):
            if mask is not None:
                kinds[place] = APART
        points, starts, owners, holes = outlines
        if bare.size:
            corners = objects.boxes[bare][:, CORNERS_OF_BOX].reshape(-1, 2)
            points = np.concatenate([points, corners])
            starts = np.concatenate([starts, starts[-1] + 4 * np.arange(1, bare.size + 1)])
            owners, holes = np.concatenate([owners, bare]), np.concatenate([holes, np.zeros(bare.size, bool)])
        return ShapeArrays(np.ascontiguousarray(points), starts, owners, holes, kinds, objects.boxes, objects.keypoints)


class TransformedShapes(NamedTuple):
    """For each of V moves and N objects.

    share: (V, N), how much of the moved object is inside the window; boxes: (V, N, 4), fitted
    and clipped; growth: (V, N), how much larger the box is than what was turned; keypoints:
    (V, N), labelled keypoints inside; crossing: (V, N) bool, whether an outline leaves the window.
    """

    share: NDArray[np.float64]
    boxes: NDArray[np.float64]
    growth: NDArray[np.float64]
    keypoints: NDArray[np.int64]
    crossing: NDArray[np.bool_]


def transform_shapes(shapes: ShapeArrays, matrices: NDArray[np.float64], windows: NDArray[np.float64], moved: bool = False) -> TransformedShapes:
    """Move objects by each of `matrices` (V, 9) into the window of the same place in `windows` (V, 4).

    moved: the rings were bent already, so boxes are to be found from them alone; keypoints are ignored.
    """
    moves, count = len(matrices), len(shapes.boxes)
    found = TransformedShapes(np.ones((moves, count)), np.zeros((moves, count, 4)), np.ones((moves, count)), np.zeros((moves, count), np.int64),
                   np.zeros((moves, count), np.bool_))  # fmt: skip
    _transform_shapes(*shapes, matrices, windows, moved, *found)
    return found


def moved_keypoints(keypoints: NDArray[np.float64], matrix: Matrix, window: Rect, swap: NDArray[np.int64] | None) -> NDArray[np.float64]:
    """Keypoints (N, K, 3) after a move: zeros for those outside `window`; with `swap` each takes its mirror partner's place."""
    out = np.zeros_like(keypoints)
    count = keypoints.shape[1]
    # A skeleton that names other keypoints than there are says nothing about their partners.
    if swap is None or len(swap) != count:
        swap = np.arange(count)
    _move_keypoints(keypoints, matrix, window, swap, out)
    return out


@kernel
def reaches_out(values: NDArray[np.float64], width: float, height: float) -> bool:
    """Whether any of the points x, y, x, y … (flat) lies outside 0 … width, 0 … height."""
    for n in range(0, values.size, 2):  # noqa: SIM110  compiled: no generators
        if not (0.0 <= values[n] <= width and 0.0 <= values[n + 1] <= height):
            return True
    return False


@kernel
def _move_keypoints(keypoints, m, window, swap, out):
    for n in range(keypoints.shape[0]):
        for k in range(keypoints.shape[1]):
            visibility = keypoints[n, swap[k], 2]
            if visibility == 0.0:
                continue
            x, y = _move(m, keypoints[n, swap[k], 0], keypoints[n, swap[k], 1])
            if window[0] <= x < window[2] and window[1] <= y < window[3]:
                out[n, k, 0], out[n, k, 1], out[n, k, 2] = x, y, visibility


@kernel
def _move(m, x, y):
    w = m[6] * x + m[7] * y + m[8]
    if m[6] != 0.0 or m[7] != 0.0:
        w = max(w, NEAREST)
    return (m[0] * x + m[1] * y + m[2]) / w, (m[3] * x + m[4] * y + m[5]) / w


@kernel
def _clip_box(box, window, out):
    out[0], out[1] = min(max(box[0], window[0]), window[2]), min(max(box[1], window[1]), window[3])
    out[2], out[3] = min(max(box[2], window[0]), window[2]), min(max(box[3], window[1]), window[3])


@kernel
def _transform_shapes(points, starts, owners, holes, kinds, boxes, keypoints, matrices, windows, bent, share, fitted, growth, seen, crossing):
    count = kinds.size
    most = 4
    for ring in range(owners.size):
        most = max(most, starts[ring + 1] - starts[ring])
    moved = np.empty((most, 2))
    one, two = np.empty((6 * most + 32, 2)), np.empty((6 * most + 32, 2))
    area, inside = np.empty(count), np.empty(count)
    bounds, visible = np.empty((count, 4)), np.empty((count, 4))
    for v in range(matrices.shape[0]):
        m, window = matrices[v], windows[v]
        upright = not bent and m[1] == 0.0 and m[3] == 0.0 and m[6] == 0.0 and m[7] == 0.0
        area[:] = 0.0
        inside[:] = 0.0
        for n in range(count):
            bounds[n, 0] = bounds[n, 1] = visible[n, 0] = visible[n, 1] = np.inf
            bounds[n, 2] = bounds[n, 3] = visible[n, 2] = visible[n, 3] = -np.inf
        for ring in range(owners.size):
            n = owners[ring]
            if kinds[n] == APART:
                continue
            begin, length = starts[ring], starts[ring + 1] - starts[ring]
            x0 = y0 = np.inf
            x1 = y1 = -np.inf
            for k in range(length):
                x, y = _move(m, points[begin + k, 0], points[begin + k, 1])
                moved[k, 0], moved[k, 1] = x, y
                x0, x1, y0, y1 = min(x0, x), max(x1, x), min(y0, y), max(y1, y)
            out = x0 < window[0] - HAIR or y0 < window[1] - HAIR or x1 > window[2] + HAIR or y1 > window[3] + HAIR
            if not holes[ring]:
                _widen(bounds[n], x0, y0, x1, y1)
            sign = -1.0 if holes[ring] else 1.0
            whole = area_of(moved, 0, length)
            area[n] += sign * whole
            if kinds[n] != OUTLINE:
                continue
            if not out:
                inside[n] += sign * whole
                if not holes[ring]:
                    _widen(visible[n], x0, y0, x1, y1)
            elif x0 < window[2] and y0 < window[3] and x1 > window[0] and y1 > window[1]:
                cut = clip_ring(moved, 0, length, window, one, two)
                inside[n] += sign * area_of(one, 0, cut)
                if not holes[ring]:
                    for k in range(cut):
                        _widen(visible[n], one[k, 0], one[k, 1], one[k, 0], one[k, 1])
            if out and not holes[ring]:
                crossing[v, n] = True
        for n in range(count):
            kind = kinds[n]
            if kind == APART:
                continue
            if kind == OUTLINE and crossing[v, n]:
                share[v, n] = min(max(inside[n] / area[n], 0.0), 1.0) if area[n] > 0.0 else 0.0
                if share[v, n] > 0.0:
                    _clip_box(visible[n], window, fitted[v, n])
                continue
            if upright:
                x0, y0 = _move(m, boxes[n, 0], boxes[n, 1])
                x1, y1 = _move(m, boxes[n, 2], boxes[n, 3])
                bounds[n, 0], bounds[n, 1], bounds[n, 2], bounds[n, 3] = min(x0, x1), min(y0, y1), max(x0, x1), max(y0, y1)
            elif kind == ELLIPSE:
                # The extent of an ellipse with half axes p, q under a linear map: per axis √((m·p)² + (n·q)²).
                p, q = (boxes[n, 2] - boxes[n, 0]) / 2, (boxes[n, 3] - boxes[n, 1]) / 2
                x, y = _move(m, (boxes[n, 0] + boxes[n, 2]) / 2, (boxes[n, 1] + boxes[n, 3]) / 2)
                across, down = np.sqrt((m[0] * p) ** 2 + (m[1] * q) ** 2), np.sqrt((m[3] * p) ** 2 + (m[4] * q) ** 2)
                bounds[n, 0], bounds[n, 1], bounds[n, 2], bounds[n, 3] = x - across, y - down, x + across, y + down
            _clip_box(bounds[n], window, fitted[v, n])
            if kind != OUTLINE:
                before = (bounds[n, 2] - bounds[n, 0]) * (bounds[n, 3] - bounds[n, 1])
                if kind == CORNERS and not upright and area[n] > 0.0:
                    growth[v, n] = before / area[n]
                if before > 0.0:
                    share[v, n] = (fitted[v, n, 2] - fitted[v, n, 0]) * (fitted[v, n, 3] - fitted[v, n, 1]) / before
                else:
                    # Nothing to measure: an object without area is in when its place is.
                    here = bounds[n, 0] >= window[0] and bounds[n, 1] >= window[1] and bounds[n, 2] <= window[2] and bounds[n, 3] <= window[3]
                    share[v, n] = 1.0 if here else 0.0
        for n in range(keypoints.shape[0]):
            for k in range(keypoints.shape[1]):
                if keypoints[n, k, 2] > 0.0:
                    x, y = _move(m, keypoints[n, k, 0], keypoints[n, k, 1])
                    if window[0] <= x < window[2] and window[1] <= y < window[3]:
                        seen[v, n] += 1


@kernel
def _widen(box, x0, y0, x1, y1):
    box[0], box[1], box[2], box[3] = min(box[0], x0), min(box[1], y0), max(box[2], x1), max(box[3], y1)


def shares_left(matrices: NDArray[np.float64], windows: NDArray[np.float64], boxes: NDArray[np.float64]) -> NDArray[np.float64]:
    """How much of each box (N, 4), moved by each of `matrices` (M, 9), is inside the window (M, 4) of that place: (N, M), 0 … 1."""
    left = np.empty((len(boxes), len(matrices)))
    _shares_left(matrices, windows, boxes, left)
    return left


@kernel
def _shares_left(matrices, windows, boxes, left):
    ring, one, two = np.empty((4, 2)), np.empty((56, 2)), np.empty((56, 2))
    for k in range(matrices.shape[0]):
        for n in range(boxes.shape[0]):
            _corners(matrices[k], boxes[n], ring)
            whole = area_of(ring, 0, 4)
            count = clip_ring(ring, 0, 4, windows[k], one, two)
            left[n, k] = area_of(one, 0, count) / whole if whole > 0.0 else 0.0


@kernel
def _corners(m, box, ring):
    for n in range(4):
        ring[n, 0], ring[n, 1] = _move(m, box[2] if n == 1 or n == 2 else box[0], box[3] if n >= 2 else box[1])


def responsible_members(shares: NDArray[np.float64], limits: NDArray[np.float64]) -> NDArray[np.int64]:
    """For each object the first of the last places whose shares (N, M) are all under its limit; else the place that took most."""
    found: NDArray[np.int64] = _responsible_members(shares, limits)
    return found


@kernel
def _responsible_members(shares, limits):
    objects, moves = shares.shape
    found = np.zeros(objects, np.int64)
    for n in range(objects):
        place = moves - 1
        if shares[n, place] < limits[n]:
            while place > 0 and shares[n, place - 1] < limits[n]:
                place -= 1
            found[n] = place
            continue
        most, before = -np.inf, 1.0
        for k in range(moves):
            if before - shares[n, k] > most:
                most, found[n] = before - shares[n, k], k
            before = shares[n, k]
    return found


@kernel
def uncovered(m, width, height, window):
    """Share of `window` that a picture of width × height px leaves free when it is moved by the matrix `m`."""
    x0, y0, x1, y1 = window
    ring = np.empty((4, 2))
    _corners(m, (0.0, 0.0, float(width), float(height)), ring)
    one, two = np.empty((56, 2)), np.empty((56, 2))
    count = clip_ring(ring, 0, 4, window, one, two)
    return 1.0 - area_of(one, 0, count) / ((x1 - x0) * (y1 - y0))


#: Shares below this are rounding, not area.
NOTHING = 1e-9


def exposed_share(matrix: Matrix, before: Size, window: Rect) -> float:
    """Share of `window` (after) that the picture (before) does not reach, 0 … 1."""
    if matrix.upright():
        share = _upright_share(matrix, before, window)
    else:
        # Compiled code takes plain tuples in a third of the time it takes named ones.
        share = uncovered(tuple(matrix), before.width, before.height, tuple(window))
    return share if share > NOTHING else 0.0


def _upright_share(m: Matrix, before: Size, window: Rect) -> float:
    x0, y0, x1, y1 = window
    left, right = sorted((m.c, m.a * before.width + m.c))
    top, bottom = sorted((m.f, m.e * before.height + m.f))
    across = max(min(right, x1) - max(left, x0), 0.0)
    down = max(min(bottom, y1) - max(top, y0), 0.0)
    return 1.0 - across * down / ((x1 - x0) * (y1 - y0))


def exposed_by(outline: list[Point], window: Rect) -> float:
    """Share of `window` that a picture with this outline does not reach."""
    whole = (window[2] - window[0]) * (window[3] - window[1])
    share = 1.0 - area(clip_polygon(outline, window)) / whole
    return share if share > NOTHING else 0.0
