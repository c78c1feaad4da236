"""Uneven light and soft shadows as a gain for every pixel."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from varlen.kernels.jit import kernel
from varlen.kernels.warp_affine import Pixels


def relight(pixels: Pixels, strength: float, angle_degrees: float, shadows: list[dict[str, Any]]) -> Pixels:
    """(H, W, 3) uint8 lit from `angle_degrees` (counter-clockwise from the right), darkened by elliptic shadows."""
    height, width = pixels.shape[:2]
    half = math.hypot(width, height) / 2
    light = np.array(_turn(angle_degrees)) / half
    ellipses = np.empty((len(shadows), 6))
    for place, shadow in enumerate(shadows):
        cos, sin = _turn(shadow["degrees"])
        along, across = shadow["length_fraction"] * half, shadow["breadth_fraction"] * half
        ellipses[place] = (shadow["x_fraction"] * width, shadow["y_fraction"] * height, cos / along, sin / along, -sin / across, cos / across)
    out = np.empty(pixels.shape, np.uint8)
    _relight(np.ascontiguousarray(pixels), out, strength, light, ellipses)
    return out


def _turn(degrees: float) -> tuple[float, float]:
    """Direction of an angle with y pointing down, rounded so that the last bit is no matter."""
    return round(math.cos(math.radians(degrees)), 9), -round(math.sin(math.radians(degrees)), 9)


@kernel
def _gains(gain, width, x_light, y_part, strength):
    """Gains of a row without shadows."""
    for column in range(gain.size):
        gain[column] = 1.0 + strength * ((column + 0.5 - width / 2) * x_light + y_part)


@kernel
def _cast(gain, first, end, y, strength, cx, cy, ax, ay, bx, by):
    """One shadow on a row, from column `first` on."""
    for column in range(first, end):
        dx, dy = column + 0.5 - cx, y - cy
        u, v = dx * ax + dy * ay, dx * bx + dy * by
        t = min(max((1.4 - np.sqrt(u * u + v * v)) / 0.8, 0.0), 1.0)
        gain[column] *= 1.0 - strength * t * t * (3.0 - 2.0 * t)


@kernel
def _reach(y, width, cx, cy, ax, ay, bx, by):
    """The columns of a row that a shadow can touch: a little more than where u² + v² < 1.4²; none where first is not below end."""
    dy = y - cy
    a, b, c = ax * ax + bx * bx, (ax * ay + bx * by) * dy, (ay * ay + by * by) * dy * dy - 1.4 * 1.4
    inside = b * b - a * c
    if inside <= 0.0:
        return 0, 0
    half = np.sqrt(inside)
    first, end = cx + (-b - half) / a - 2.0, cx + (-b + half) / a + 2.0
    return int(min(max(first, 0.0), float(width))), int(min(max(end, 0.0), float(width)))


@kernel
def _gained(line, out, gain):
    for column in range(gain.size):
        whole = np.int32(gain[column] * 4096.0 + 0.5)
        k = 3 * column
        for channel in range(3):
            out[k + channel] = np.uint8(min(np.int32(np.int32(np.int32(line[k + channel]) * whole) + np.int32(2048)) >> np.int32(12), 255))  # type: ignore[arg-type]


@kernel
def _relight(pixels, out, strength, light, ellipses):
    height, width = pixels.shape[0], pixels.shape[1]
    flat, made = pixels.reshape(pixels.size), out.reshape(out.size)
    gain = np.empty(width, np.float64)
    for row in range(height):
        y = row + 0.5
        _gains(gain, width, light[0], (y - height / 2) * light[1], strength)
        for n in range(ellipses.shape[0]):
            cx, cy, ax, ay, bx, by = ellipses[n, 0], ellipses[n, 1], ellipses[n, 2], ellipses[n, 3], ellipses[n, 4], ellipses[n, 5]
            first, end = _reach(y, width, cx, cy, ax, ay, bx, by)
            if first < end:
                _cast(gain, first, end, y, strength, cx, cy, ax, ay, bx, by)
        begin = 3 * width * row
        _gained(flat[begin : begin + 3 * width], made[begin : begin + 3 * width], gain)
