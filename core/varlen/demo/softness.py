"""Gaussian blur in 64-bit floats with the very numbers of `scipy.ndimage.gaussian_filter`, several times faster: most of a rendered picture is blur.

Sums are taken in the same order (a tap's two sides first, from the outermost pair to the innermost), so that pictures stay what they were.
"""

from __future__ import annotations

from typing import Literal

import numpy as np

from varlen.demo.species import Floats
from varlen.kernels.jit import kernel

#: Deviations beyond which taps are left out.
REACH = 4.0


@kernel
def _taps(padded: Floats, weights: Floats, out: Floats) -> None:
    """Rows (R, N) from padded ones (R, N + 2·radius). weights: (radius + 1,), the middle first."""
    radius, count = len(weights) - 1, out.shape[1]
    for row in range(out.shape[0]):
        line, into = padded[row], out[row]
        for place in range(count):
            into[place] = line[place + radius] * weights[0]
        for tap in range(radius, 0, -1):
            weight = weights[tap]
            before, after = line[radius - tap : radius - tap + count], line[radius + tap : radius + tap + count]
            for place in range(count):
                into[place] += (before[place] + after[place]) * weight


@kernel
def _taps_down(padded: Floats, weights: Floats, out: Floats) -> None:
    """Columns, likewise: (H, N) from (H + 2·radius, N)."""
    radius = len(weights) - 1
    for row in range(out.shape[0]):
        into, middle = out[row], padded[row + radius]
        for place in range(len(into)):
            into[place] = middle[place] * weights[0]
        for tap in range(radius, 0, -1):
            weight = weights[tap]
            before, after = padded[row + radius - tap], padded[row + radius + tap]
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
    radius = len(weights) - 1
    if axis == 0:
        columns = values.reshape(len(values), -1)
        out = np.empty(columns.shape)
        _taps_down(np.pad(columns, [(radius, radius), (0, 0)], mode=edges), weights, out)
        return out.reshape(values.shape)
    last = np.ascontiguousarray(np.moveaxis(values, axis, -1))
    lines = last.reshape(-1, last.shape[-1])
    out = np.empty(lines.shape)
    _taps(np.pad(lines, [(0, 0), (radius, radius)], mode=edges), weights, out)
    return np.ascontiguousarray(np.moveaxis(out.reshape(last.shape), -1, axis))
