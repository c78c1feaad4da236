"""Bending points by a cubic B-spline field, there and back, and whole transforms made of bends and matrices."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from varlen.draws import Stream
from varlen.kernels.jit import kernel
from varlen.model.effects import Bends, DisplacementField, Field, SampledField
from varlen.model.geometry import Matrix, Point, Rect, Size

#: Label edges longer than this share of the spacing are divided before they are bent.
FINE = 0.25
#: Newton's method ends when a point is known this well, in px.
CLOSE = 1e-6
MOST_ROUNDS = 60
#: … or after so many rounds where it starts near already.
MOST_TRIES = 12
#: An inverse that is given must lead back as exactly as this, px.
INVERSE_WITHIN = 0.1
#: A map is followed from so many points a side …
STARTS = 65
#: … of the picture and so much around it, as a share of its sides …
BEYOND = 0.15
#: … and its way back nowhere steeper than this.
MOST_STRETCH = 8.0
#: Slopes of a map are taken over so many px to either side.
APART = 0.01
#: A point that Newton's method left further from its goal, px, has no place in the field.
FOUND = 0.01


def backward(points: NDArray[np.float64], field: Field) -> NDArray[np.float64]:
    """Where points of the picture after come from: p + d(p) for each, (N, 2) float64."""
    out = np.empty_like(points)
    _displaced(np.ascontiguousarray(points), control_points(field), *field.steps, out)
    return out


def forward(points: NDArray[np.float64], field: Field) -> NDArray[np.float64]:
    """Where points of the picture before go: the p with p + d(p) = point for each, (N, 2) float64."""
    out = np.empty_like(points)
    _undisplaced(np.ascontiguousarray(points), control_points(field), *field.steps, out)
    if isinstance(field, SampledField) and len(points):
        # What leads beyond the field's margin has no place there: it goes far out of the frame, on its own side.
        lost = ~(np.abs(backward(out, field) - points).max(axis=1) < FOUND)
        middle = np.array(field.size) / 2 - field.origin
        out[lost] = points[lost] + 10 * (points[lost] - middle)
    return out


def control_points(field: Field) -> NDArray[np.float64]:
    """The displacements of its control points, (down, across, 2) float64 px."""
    return field.control if isinstance(field, SampledField) else _drawn_points(field)


@lru_cache(maxsize=64)
def _drawn_points(field: DisplacementField) -> NDArray[np.float64]:
    """(down + 1, across + 1, 2) float64 displacements in px; zero where they would reach the border."""
    across, down = field.cells
    stream = Stream(field.key, "", 0, "field")
    values = np.zeros((down + 1, across + 1, 2))
    inner = values[2:-2, 2:-2]
    inner[...] = np.array([2.0 * stream.unit() - 1.0 for _ in range(inner.size)]).reshape(inner.shape) * field.strength
    return values


#: A map of points that no formula describes is sampled so often along the shorter side …
SAMPLES_A_SIDE = 32
#: … or more often until a spline through the samples is as near as this, px …
EXACT = 0.02
#: … and in so many cells around the frame.
MARGIN = 12


Points = NDArray[np.float64]
"""(N, 2) float64 px."""
Map = Callable[[Points], Points]


def sampled(back: Map, size: Size, key: str) -> SampledField:
    """The field whose way back is `back`: points of the picture after → where they come from. key: a name for it.

    A cubic B-spline through samples of the displacement, closer ones where between them it would be off by more than EXACT px.
    """
    samples = SAMPLES_A_SIDE
    while True:
        field = _sampled(back, size, key, samples)
        step_x, step_y = field.steps
        between = np.stack(np.meshgrid(np.arange(step_x / 2, size.width, step_x), np.arange(step_y / 2, size.height, step_y)), axis=-1).reshape(-1, 2)
        wanted = back(between)
        shown = ((wanted > 0) & (wanted < np.array(size))).all(axis=1)
        off = np.abs(backward(between - field.origin, field) + field.origin - wanted)[shown]
        if off.max(initial=0.0) <= EXACT or samples >= 2 * SAMPLES_A_SIDE:
            return field
        samples *= 2


def _sampled(back: Map, size: Size, key: str, samples: int) -> SampledField:
    from scipy.ndimage import spline_filter

    spacing = max(min(size) / samples, 2.0)
    cells = max(4, round(size.width / spacing)), max(4, round(size.height / spacing))
    step_x, step_y = size.width / cells[0], size.height / cells[1]
    columns, rows = ((np.arange(-MARGIN, count + MARGIN + 1)) * step for count, step in zip(cells, (step_x, step_y), strict=True))
    grid = np.stack(np.meshgrid(columns, rows), axis=-1)
    displaced = back(grid.reshape(-1, 2)).reshape(grid.shape) - grid
    control = np.stack([spline_filter(displaced[:, :, axis], order=3, mode="mirror") for axis in range(2)], axis=-1)
    return SampledField(size, (step_x, step_y), (float(columns[0]), float(rows[0])), key, np.ascontiguousarray(control))


def way_back_of(forward: Map, size: Size, inverse: Map | None = None) -> Callable[[Points], tuple[Points, NDArray[np.bool_]]]:
    """The way back of a map of a picture's points: of points (N, 2) after, where they come from; and which of them `forward` leads back to.

    By Newton's method, from the nearest of many points that were followed forward; or by `inverse`. Points to which none of the picture
    leads, or only after a fold, continue the map straight on from the nearest that is known, so they lie outside of the picture too.
    """
    from scipy.spatial import cKDTree

    wide = 1 + 2 * BEYOND
    ends = [np.linspace(-BEYOND * side, (1 + BEYOND) * side, STARTS) for side in size]
    starts = np.stack(np.meshgrid(*ends), axis=-1).reshape(-1, 2)
    there = forward(starts)
    usable = np.isfinite(there).all(axis=1)
    tree = cKDTree(there[usable])

    def back(points: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
        if inverse is None:
            away, nearest = tree.query(points)
            at = starts[usable][nearest]
            close = away < 0.5 * MOST_STRETCH * (ends[0][1] - ends[0][0] + ends[1][1] - ends[1][0])
            at[close] = _newton(forward, at[close], points[close])
        else:
            at = inverse(points)
        with np.errstate(invalid="ignore"):
            known = np.abs(forward(at) - points).max(axis=1) < (FOUND if inverse is None else INVERSE_WITHIN)
            known &= (np.abs(at / np.array(size) - 0.5) <= wide / 2).all(axis=1)
            a, b, c, d = _slopes_of(forward, at)
            det = a * d - b * c
            known &= (det > 0) & (np.abs([a, b, c, d]).max(axis=0) < MOST_STRETCH * det)
        if known.any() and not known.all():
            anchor = np.flatnonzero(known)[cKDTree(points[known]).query(points[~known])[1]]
            x, y = (points[~known] - points[anchor]).T
            on = np.stack([d[anchor] * x - b[anchor] * y, a[anchor] * y - c[anchor] * x], axis=1) / det[anchor, None]
            at[~known] = at[anchor] + on
        return at, np.asarray(known, np.bool_)

    return back


def _newton(forward: Map, at: NDArray[np.float64], points: NDArray[np.float64]) -> NDArray[np.float64]:
    """From `at` towards the points that `forward` takes to `points`, as near as it comes."""
    off = forward(at) - points
    for _ in range(MOST_TRIES):
        far = np.flatnonzero(~(np.abs(off).max(axis=1) < CLOSE))
        if not len(far):
            break
        place, short = at[far], off[far]
        a, b, c, d = _slopes_of(forward, place)
        det = a * d - b * c
        safe = np.where(np.abs(det) < 1e-9, 1e-9, det)
        go = np.stack([(d * short[:, 0] - b * short[:, 1]) / safe, (a * short[:, 1] - c * short[:, 0]) / safe], axis=1)
        part = np.ones(len(far))
        for _ in range(6):  # shorter steps until one comes nearer
            to = place - part[:, None] * go
            now = forward(to) - points[far]
            nearer = (now**2).sum(axis=1) < (short**2).sum(axis=1)
            if nearer.all():
                break
            part = np.where(nearer, part, part / 2)
        at[far[nearer]], off[far[nearer]] = to[nearer], now[nearer]
        if not nearer.any():
            break
    return at


def _slopes_of(forward: Map, points: NDArray[np.float64]) -> tuple[NDArray[np.float64], ...]:
    """∂x/∂x, ∂x/∂y, ∂y/∂x, ∂y/∂y of a map at points, from differences."""
    (a, c), (b, d) = ((forward(points + aside) - forward(points - aside)).T / (2 * APART) for aside in APART * np.eye(2))
    return a, b, c, d


def moved(points: NDArray[np.float64], bends: Bends, matrix: Matrix) -> NDArray[np.float64]:
    """Points through bends, each after its matrix, and a last matrix."""
    for before, field in bends:
        points = forward(before.points(points), field)
    return matrix.points(points)


def moved_outline(rect: Rect, bends: Bends, matrix: Matrix) -> list[Point]:
    """The outline of `rect` after a move: its corners, and points between them where it is bent."""
    if not bends:
        return matrix.quad(rect)
    x0, y0, x1, y1 = rect
    corners = np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]])
    return [(float(x), float(y)) for x, y in moved(divided(corners, bends), bends, matrix)]


def divided(ring: NDArray[np.float64], bends: Bends) -> NDArray[np.float64]:
    """A ring with points added along its long edges, so that bending them is seen."""
    longest = FINE * min(min(field.steps) for _, field in bends)
    edges = np.roll(ring, -1, axis=0) - ring
    counts = np.clip(np.ceil(np.hypot(edges[:, 0], edges[:, 1]) / longest), 1, 200).astype(np.int64)
    if counts.max(initial=1) == 1:
        return ring
    starts = np.repeat(ring, counts, axis=0)
    along = np.concatenate([np.arange(count) / count for count in counts])
    out: NDArray[np.float64] = starts + np.repeat(edges, counts, axis=0) * along[:, None]
    return out


@kernel
def pieces(t):
    """The four pieces of the cubic B-spline over one cell, at the place t of it, 0 … 1."""
    rest = 1 - t
    return rest * rest * rest / 6, (3 * t * t * t - 6 * t * t + 4) / 6, (-3 * t * t * t + 3 * t * t + 3 * t + 1) / 6, t * t * t / 6


@kernel
def _slopes(t):
    """The slopes of the four pieces."""
    rest = 1 - t
    return -(rest * rest) / 2, (3 * t * t - 4 * t) / 2, (-3 * t * t + 2 * t + 1) / 2, t * t / 2


@kernel
def displacement(flat, begin, rows, columns, step_x, step_y, x, y):
    """The displacement at (x, y) of the field whose control points begin at `begin` of `flat`."""
    gx, gy = x / step_x, y / step_y
    i, j = int(np.floor(gx)), int(np.floor(gy))
    t, s = gx - i, gy - j
    wx, wy = pieces(t), pieces(s)
    dx = dy = 0.0
    for n in range(4):
        row = j - 1 + n
        if 0 <= row < rows:
            for m in range(4):
                column = i - 1 + m
                if 0 <= column < columns:
                    weight = wx[m] * wy[n]
                    place = np.uint64(begin + 2 * (row * columns + column))
                    dx += flat[place] * weight
                    dy += flat[place + np.uint64(1)] * weight
    return dx, dy


@kernel
def spline(control, step_x, step_y, x, y):
    """Displacement at (x, y) and its slopes: dx, dy, ∂dx/∂x, ∂dx/∂y, ∂dy/∂x, ∂dy/∂y."""
    rows, columns = control.shape[0], control.shape[1]
    gx, gy = x / step_x, y / step_y
    i, j = int(np.floor(gx)), int(np.floor(gy))
    t, s = gx - i, gy - j
    wx, wy, vx, vy = pieces(t), pieces(s), _slopes(t), _slopes(s)
    dx = dy = dx_x = dx_y = dy_x = dy_y = 0.0
    for n in range(4):
        row = j - 1 + n
        if row < 0 or row >= rows:
            continue
        for m in range(4):
            column = i - 1 + m
            if column < 0 or column >= columns:
                continue
            cx, cy = control[row, column, 0], control[row, column, 1]
            weight = wx[m] * wy[n]
            dx += cx * weight
            dy += cy * weight
            across, down = vx[m] * wy[n] / step_x, wx[m] * vy[n] / step_y
            dx_x += cx * across
            dx_y += cx * down
            dy_x += cy * across
            dy_y += cy * down
    return dx, dy, dx_x, dx_y, dy_x, dy_y


@kernel
def _displaced(points, control, step_x, step_y, out):
    flat = control.reshape(control.size)
    for n in range(points.shape[0]):
        x, y = points[n, 0], points[n, 1]
        dx, dy = displacement(flat, 0, control.shape[0], control.shape[1], step_x, step_y, x, y)
        out[n, 0] = x + dx
        out[n, 1] = y + dy


@kernel
def _undisplaced(points, control, step_x, step_y, out):
    for n in range(points.shape[0]):
        goal_x, goal_y = points[n, 0], points[n, 1]
        x, y = goal_x, goal_y
        found = spline(control, step_x, step_y, x, y)
        off_x, off_y = x + found[0] - goal_x, y + found[1] - goal_y
        for _ in range(MOST_ROUNDS):
            if abs(off_x) < CLOSE and abs(off_y) < CLOSE:
                break
            a, b, c, d = 1 + found[2], found[3], found[4], 1 + found[5]
            det = a * d - b * c
            go_x, go_y = (d * off_x - b * off_y) / det, (a * off_y - c * off_x) / det
            # Shorter steps until one comes nearer: the field never folds, so there always is one.
            part = 1.0
            while part > 1e-4:
                to_x, to_y = x - part * go_x, y - part * go_y
                found = spline(control, step_x, step_y, to_x, to_y)
                now_x, now_y = to_x + found[0] - goal_x, to_y + found[1] - goal_y
                if now_x * now_x + now_y * now_y < off_x * off_x + off_y * off_y:
                    break
                part *= 0.5
            x, y, off_x, off_y = to_x, to_y, now_x, now_y
        out[n, 0] = x
        out[n, 1] = y
