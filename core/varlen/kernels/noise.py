"""Random levels that depend on a key and a place, and on nothing else."""

from __future__ import annotations

import math

import numpy as np

from varlen.kernels.jit import kernel
from varlen.kernels.warp_affine import Pixels

#: Standard deviation of the sum of four even 16-bit numbers.
SPREAD = math.sqrt((2**32 - 1) / 3)
BITS = 32


def add_noise(pixels: Pixels, sigma: float, key: int, per_channel: bool) -> Pixels:
    """(H, W, 3) uint8 with noise of standard deviation `sigma` levels; gray noise unless `per_channel`."""
    flat = np.ascontiguousarray(pixels).reshape(-1)
    out = np.empty_like(flat)
    _add_noise(flat, out, round(sigma / SPREAD * 2**BITS), np.uint64(key), 1 if per_channel else 3)
    return out.reshape(pixels.shape)


def random_levels(count: int, key: int) -> Pixels:
    """(count, 3) uint8, every level equally likely."""
    out = np.empty(3 * count, np.uint8)
    _levels(out, np.uint64(key))
    return out.reshape(count, 3)


@kernel
def _word(key, n):
    """64 bits for the n-th place: the finishing function of SplitMix64 (Steele, Lea and Flood, 2014)."""
    z = key + (np.uint64(n) + np.uint64(1)) * np.uint64(0x9E3779B97F4A7C15)
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return z ^ (z >> np.uint64(31))


@kernel
def _add_noise(pixels, out, factor, key, same):
    half = np.int64(1) << (BITS - 1)
    for n in range(pixels.size // same):
        word = _word(key, n)
        low = np.uint64(0xFFFF)
        total = np.int64((word & low) + ((word >> np.uint64(16)) & low) + ((word >> np.uint64(32)) & low) + (word >> np.uint64(48)))
        change = ((total - 131070) * factor + half) >> BITS
        for channel in range(same):
            k = np.uint64(same * n + channel)
            out[k] = min(max(np.int64(pixels[k]) + change, 0), 255)


@kernel
def _levels(out, key):
    for n in range(out.size):
        out[n] = np.uint8(_word(key, n) >> np.uint64(56))
