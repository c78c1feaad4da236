"""Bending points by a cubic B-spline field, there and back, and whole transforms made of bends and matrices."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from varlen.draws import Stream
from varlen.kernels.jit import kernel
from varlen.model.effects import Bends, DisplacementField
from varlen.model.geometry import Matrix, Point, Rect

#: Label edges longer than this share of the spacing are divided before they are bent.
FINE = 0.25
#: Newton's method ends when a point is known this well, in px.
CLOSE = 1e-6
MOST_ROUNDS = 60


def backward(points: NDArray[np.float64], field: DisplacementField) -> NDArray[np.float64]:
    """Where points of the picture after come from: p + d(p) for each, (N, 2) float64."""
    out = np.empty_like(points)
    _displaced(np.ascontiguousarray(points), control_points(field), *field.steps, out)
    return out


def forward(points: NDArray[np.float64], field: DisplacementField) -> NDArray[np.float64]:
    """Where points of the picture before go: the p with p + d(p) = point for each, (N, 2) float64."""
    out = np.empty_like(points)
    _undisplaced(np.ascontiguousarray(points), control_points(field), *field.steps, out)
    return out


@lru_cache(maxsize=64)
def control_points(field: DisplacementField) -> NDArray[np.float64]:
    """(down + 1, across + 1, 2) float64 displacements in px; zero where they would reach the border."""
    across, down = field.cells
    stream = Stream(field.key, "", 0, "field")
    values = np.zeros((down + 1, across + 1, 2))
    inner = values[2:-2, 2:-2]
    inner[...] = np.array([2.0 * stream.unit() - 1.0 for _ in range(inner.size)]).reshape(inner.shape) * field.strength
    return values


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
