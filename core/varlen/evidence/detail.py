"""Conditions of fine detail, measured at full size: sharpness and noise."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.detail_energy import PROBE_SIGMA, WEIGHTS, block_details
from varlen.kernels.warp_affine import Pixels

#: A block's side, px, and that for pictures too small for enough of them.
BLOCK, SMALL_BLOCK = 16, 4
#: A picture with a shorter side is measured in small blocks.
SMALL = 96
#: Share of a block's pixels at an end of the scale from which its grain is cut off.
MOST_CLIPPED = 0.01
#: The share of blocks, those with the least gradient, whose grain is taken for noise.
FLATTEST = 0.1
#: Variance that rounding to whole levels adds.
ROUNDING = 1.0 / 12.0
#: What the formula of sharpness finds too much: nothing where power falls exactly as assumed, a fifth in photographs, whose power falls faster.
TOO_MUCH = 1.1
#: The widest blur that is told, px.
WIDEST = 50.0


def _noise_after() -> float:
    """Of white noise of variance 1, the gradient energy after the probe's blur. Before it, it is 1."""
    line = np.concatenate([WEIGHTS[:0:-1], WEIGHTS]).astype(np.float64)
    slope = np.convolve(line, [0.5, 0.0, -0.5])
    return float(2.0 * (slope**2).sum() * (line**2).sum())


NOISE_AFTER = _noise_after()


def detail_of(pixels: Pixels, seen: NDArray[np.bool_] | None = None) -> dict[str, float]:
    """Sharpness as the σ in px of the Gaussian blur the picture seems to have had, and noise as σ in levels.

    pixels: (H, W, 3) uint8; seen: (h, w) at any size, where it shows picture and not fill.
      noise      √(mean square of [1 −2 1; −2 4 −2; 1 −2 1] / 6 on green − 1/12), over the tenth of the blocks that vary least
                 (J. Immerkær, “Fast noise variance estimation”, 1996; 1/12 is the rounding's own)
      sharpness  s √(R / (1 − R)) / 1.1, R = gradient energy after one more blur of s = 1.5 px / before, the noise's share taken
                 out of both. Where power falls with the square of the frequency, gradient energy after a blur σ goes as 1 / σ², and
                 R = σ² / (σ² + s²); the factor was fitted over photographs and rendered pictures of many kinds.
    """
    small = min(pixels.shape[:2]) < SMALL
    facts = block_details(pixels, SMALL_BLOCK if small else BLOCK)
    facts = facts[_blocks_seen(facts.shape[:2], seen)] if seen is not None else facts.reshape(-1, facts.shape[-1])
    if not len(facts):
        return {"sharpness": 0.0, "noise": 0.0}
    gradient, blurred, grain, luma_grain, clipped = facts.T
    flat = _flattest(gradient, clipped)
    noise = max(float(grain[flat].mean()) - ROUNDING, 0.0)
    luma_noise = min(float(luma_grain[flat].mean()), float(luma_grain.mean()))
    before = float(gradient.mean()) - luma_noise
    after = float(blurred.mean()) - luma_noise * NOISE_AFTER
    return {"sharpness": _equivalent_sigma(before, after), "noise": math.sqrt(noise)}


def _equivalent_sigma(before: float, after: float) -> float:
    if before <= 1e-6 or after <= 0.0:
        return 0.0
    left = min(after / before, 1.0 - 1e-9)
    return min(PROBE_SIGMA * math.sqrt(left / (1.0 - left)) / TOO_MUCH, WIDEST)


def _flattest(gradient: NDArray[np.float64], clipped: NDArray[np.float64]) -> NDArray[np.int64]:
    """Places of the blocks whose grain is the sensor's: they vary least, and are neither cut off nor one plain color."""
    usable = np.flatnonzero((clipped <= MOST_CLIPPED) & (gradient > 0.0))
    if not len(usable):
        usable = np.arange(len(gradient))
    order = np.argsort(gradient[usable], kind="stable")
    return usable[order[: max(1, round(len(usable) * FLATTEST))]]


def _blocks_seen(shape: tuple[int, ...], seen: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Which blocks lie on picture alone, by the pixels of `seen` at and around their middles."""
    rows, columns = shape[0], shape[1]
    y = ((np.arange(rows) + 0.5) / max(rows, 1) * seen.shape[0]).astype(int)
    x = ((np.arange(columns) + 0.5) / max(columns, 1) * seen.shape[1]).astype(int)
    padded = np.pad(seen, 2, mode="edge")
    found = np.ones((rows, columns), np.bool_)
    for dy in range(5):
        for dx in range(5):
            found &= padded[np.ix_(y + dy, x + dx)]
    return found
