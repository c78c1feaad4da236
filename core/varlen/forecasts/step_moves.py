"""What the commonest geometry steps draw and do, for many variants at once.

Each formula takes a step, the numbers in [0, 1) of its streams, (V, 7) from the second on, and the sizes of the pictures that come to it,
(V, 2) in px; it gives what as many calls of `draw` and `effect` would, to the last bit.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from varlen.draws import factor_between, rounded
from varlen.model.geometry import Size
from varlen.steps.affine import Scale, Shear, Shift
from varlen.steps.base import EdgedStep, Step, chosen_centre
from varlen.steps.flip import Flip
from varlen.steps.resize import Resize
from varlen.steps.rotate import Rotate

Floats = NDArray[np.float64]
Sizes = NDArray[np.int64]


class StepMoves(NamedTuple):
    """Moves of V pictures, all but the last two of each own: matrices (V, 6), sizes afterwards (V, 2), windows (V, 4) or none; see `effects.Move`."""

    matrices: Floats
    sizes: Sizes
    edges: tuple[Any, ...] | None = None  # edges and their color
    cuts: bool = False
    windows: Sizes | None = None


def flip(step: Flip, units: Floats, sizes: Sizes) -> StepMoves:
    found = np.zeros((len(sizes), 6))
    down = np.floor(units[:, 0] * 2) == 1 if step.direction == "either" else np.full(len(sizes), step.direction in ("vertical", "both"))
    across = ~down if step.direction == "either" else np.full(len(sizes), step.direction in ("horizontal", "both"))
    found[:, 0], found[:, 2] = np.where(across, -1.0, 1.0), np.where(across, sizes[:, 0], 0.0)
    found[:, 4], found[:, 5] = np.where(down, -1.0, 1.0), np.where(down, sizes[:, 1], 0.0)
    return StepMoves(found, sizes)


def rotate(step: Rotate, units: Floats, sizes: Sizes) -> StepMoves:
    radians = [math.radians(each) for each in _uniform(step.degrees, units[:, 0]).tolist()]
    cos, sin = np.array([math.cos(each) for each in radians]), np.array([math.sin(each) for each in radians])
    width, height = sizes.T.astype(np.float64)
    out = sizes
    if step.frame == "grow":
        wide, high = np.abs(cos), np.abs(sin)
        out = np.stack([np.ceil(width * wide + height * high - 1e-6), np.ceil(width * high + height * wide - 1e-6)], 1).astype(np.int64)
    elif step.frame == "zoom":
        wide, high = np.abs(cos), np.abs(sin)
        factor = np.maximum(wide + high * height / width, wide + high * width / height)
        cos, sin = factor * cos, factor * sin
    centres = _centres(step, sizes)
    grown = (out != sizes).any(axis=1)
    to = np.where(grown[:, None], out / 2, centres)
    turn = np.stack([cos, sin, np.zeros(len(cos)), -sin, cos, np.zeros(len(cos))], 1)
    return StepMoves(_about(turn, centres, to), out, _edges(step))


def shear(step: Shear, units: Floats, sizes: Sizes) -> StepMoves:
    across = np.array([math.tan(math.radians(each)) for each in _uniform(step.x_degrees, units[:, 0]).tolist()])
    down = np.array([math.tan(math.radians(each)) for each in _uniform(step.y_degrees, units[:, 1]).tolist()])
    zero, one = np.zeros(len(sizes)), np.ones(len(sizes))
    slant = np.stack([one, -across, zero, -down, -down * -across + 1.0, zero], 1)
    return StepMoves(_about(slant, sizes / 2, sizes / 2), sizes, _edges(step))


def shift(step: Shift, units: Floats, sizes: Sizes) -> StepMoves:
    found = np.tile([1.0, 0.0, 0.0, 0.0, 1.0, 0.0], (len(sizes), 1))
    for column, (pixels, share, axis) in {2: (step.x_px, step.x_fraction, 0), 5: (step.y_px, step.y_fraction, 1)}.items():
        drawn = _uniform(pixels or share, units[:, axis])
        found[:, column] = np.rint(drawn if pixels is not None else drawn * sizes[:, axis])
    return StepMoves(found, sizes, _edges(step))


def scale(step: Scale, units: Floats, sizes: Sizes) -> StepMoves:
    factor = _factors(step.factor, units[:, 0])
    stretch = np.sqrt(_factors(step.stretch_factor, units[:, 1]))
    zero, centres = np.zeros(len(sizes)), _centres(step, sizes)
    return StepMoves(_about(np.stack([factor * stretch, zero, zero, zero, factor / stretch, zero], 1), centres, centres), sizes, _edges(step))


def resize(step: Resize, units: Floats, sizes: Sizes) -> StepMoves:
    """Most pictures come to it with one size: what it does is worked out once for each."""
    distinct, which = np.unique(sizes, axis=0, return_inverse=True)
    moves = [step.effect({}, Size(width, height)) for width, height in distinct.tolist()]
    windows = np.array([(0, 0, *move.size) if move.window is None else move.window for move in moves], np.int64)
    padded = any(move.window is not None for move in moves)
    return StepMoves(np.array([move.matrix[:6] for move in moves])[which], np.array([move.size for move in moves])[which], None, moves[0].cuts,
                     windows[which] if padded else None)  # fmt: skip


FORMULAS: dict[type[Step], Callable[[Any, Floats, Sizes], StepMoves]] = {
    Flip: flip, Rotate: rotate, Shear: shear, Shift: shift, Scale: scale, Resize: resize,
}  # fmt: skip


def _edges(step: EdgedStep) -> tuple[Any, ...]:
    return step.edges, step.edge_color


def _uniform(span: tuple[float, float], units: Floats) -> Floats:
    low, high = span
    return np.array([rounded(each) for each in (low + (high - low) * units).tolist()])


def _factors(span: tuple[float, float], units: Floats) -> Floats:
    return np.array([factor_between(*span, each) for each in units.tolist()])


def _centres(step: Rotate | Scale, sizes: Sizes) -> Floats:
    middle = sizes / 2
    x, y = chosen_centre(Size(0, 0), step.centre_x_px, step.centre_y_px)
    return np.stack([middle[:, 0] if step.centre_x_px is None else np.full(len(sizes), x),
                     middle[:, 1] if step.centre_y_px is None else np.full(len(sizes), y)], 1)  # fmt: skip


def _about(matrices: Floats, centres: Floats, to: Floats) -> Floats:
    """As `geometry.about`, for affine matrices (V, 6)."""
    found = matrices.copy()
    x, y = centres.T
    found[:, 2] = matrices[:, 2] - matrices[:, 0] * x - matrices[:, 1] * y + to[:, 0]
    found[:, 5] = matrices[:, 5] - matrices[:, 3] * x - matrices[:, 4] * y + to[:, 1]
    return found
