"""Gaussian blur in 64-bit floats with the very numbers of `scipy.ndimage.gaussian_filter`, several times faster: most of a rendered picture is blur.

Sums are taken in the same order (a tap's two sides first, from the outermost pair to the innermost), so that pictures stay what they were.
"""

from __future__ import annotations

import math
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from varlen.demo.species import Floats
from varlen.kernels.jit import kernel

#: Deviations beyond which taps are left out.
REACH = 4.0


@kernel
def _along_rows(values: Floats, weights: Floats, places: NDArray[np.int64], step: int, out: Floats) -> None:
    """Rows (R, N · step) of N places with `step` numbers each. weights: (radius + 1,), the middle first; places: (N + 2·radius,), which to take."""
    radius, count = len(weights) - 1, values.shape[1]
    line = np.empty(len(places) * step)
    for row in range(len(values)):
        for place in range(len(places)):
            for number in range(step):
                line[place * step + number] = values[row, places[place] * step + number]
        into = out[row]
        for place in range(count):
            into[place] = line[place + radius * step] * weights[0]
        for tap in range(radius, 0, -1):
            weight = weights[tap]
            before, after = line[(radius - tap) * step :], line[(radius + tap) * step :]
            for place in range(count):
                into[place] += (before[place] + after[place]) * weight


@kernel
def _down_columns(values: Floats, weights: Floats, places: NDArray[np.int64], out: Floats) -> None:
    """Columns of (H, N), likewise; places: (H + 2·radius,)."""
    radius = len(weights) - 1
    for row in range(len(out)):
        into, middle = out[row], values[row]
        for place in range(len(into)):
            into[place] = middle[place] * weights[0]
        for tap in range(radius, 0, -1):
            weight = weights[tap]
            before, after = values[places[row + radius - tap]], values[places[row + radius + tap]]
            for place in range(len(into)):
                into[place] += (before[place] + after[place]) * weight


def _weights(sigma: float) -> Floats:
    """Weights of a Gaussian from its middle outwards, (radius + 1,), the sum over both sides 1."""
    radius = int(REACH * sigma + 0.5)
    x = np.arange(-radius, radius + 1)
    both = np.exp(-0.5 / (sigma * sigma) * x**2)
    return np.ascontiguousarray((both / both.sum())[radius:])


def blurred(values: Floats, sigma: float | tuple[float, ...], edges: Literal["symmetric", "wrap"] = "symmetric") -> Floats:
    """Blur an array (H, W) or (H, W, C) along its axes by `sigma` px, one for all or one for each; 0 leaves an axis alone.

    edges: what lies beyond the array, its mirror image or its other side.
    """
    found = np.ascontiguousarray(values, np.float64)
    for axis, deviation in enumerate(sigma if isinstance(sigma, tuple) else (sigma,) * found.ndim):
        if deviation > 1e-15:
            found = _along(found, _weights(deviation), axis, edges)
    return found


def _along(values: Floats, weights: Floats, axis: int, edges: Literal["symmetric", "wrap"]) -> Floats:
    radius, count = len(weights) - 1, values.shape[axis]
    places = np.pad(np.arange(count), radius, mode=edges)
    step = math.prod(values.shape[axis + 1 :])
    lines = values.reshape(-1, count * step) if axis else values.reshape(count, -1)
    out = np.empty(lines.shape)
    if axis:
        _along_rows(lines, weights, places, step, out)
    else:
        _down_columns(lines, weights, places, out)
    return out.reshape(values.shape)
