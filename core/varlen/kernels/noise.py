"""Random levels that depend on a key and a place, and on nothing else."""

from __future__ import annotations

import math

import numpy as np

from varlen.kernels.jit import kernel
from varlen.kernels.warp_affine import Pixels

#: Standard deviation of the sum of four even 16-bit numbers.
SPREAD = math.sqrt((2**32 - 1) / 3)
BITS = 32
#: Levels whose changes are worked out together, so that they stay near the processor.
BLOCK = 1024


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
def _changes(changes, first, factor, key):
    """What is added to each level, from the `first` word on: the sum of a word's four parts about 0, times `factor` / 2³²."""
    half = np.int64(1) << (BITS - 1)
    low = np.uint64(0xFFFF)
    for n in range(changes.size):
        word = _word(key, np.uint64(first) + np.uint64(n))
        total = np.int64((word & low) + ((word >> np.uint64(16)) & low) + ((word >> np.uint64(32)) & low) + (word >> np.uint64(48)))
        changes[n] = np.int32(((total - np.int64(131070)) * np.int64(factor) + half) >> np.int64(BITS))


@kernel
def _add(pixels, changes, out):
    for n in range(out.size):
        out[n] = np.uint8(min(max(np.int32(np.int32(pixels[n]) + changes[n]), 0), 255))  # type: ignore[arg-type]


@kernel
def add_to_pixels(pixels, changes, out):
    """Each pixel's three levels changed alike, cut off at 0 and 255; pixels, out: flat."""
    for n in range(changes.size):
        for channel in range(3):
            k = 3 * n + channel
            out[k] = np.uint8(min(max(np.int32(np.int32(pixels[k]) + changes[n]), 0), 255))  # type: ignore[arg-type]


@kernel
def _add_noise(pixels, out, factor, key, same):
    changes = np.empty(BLOCK, np.int32)
    count = pixels.size // same
    for first in range(0, count, BLOCK):
        some = changes[: min(BLOCK, count - first)]
        _changes(some, first, factor, key)
        begin, end = same * first, same * (first + some.size)
        if same == 1:
            _add(pixels[begin:end], some, out[begin:end])
        else:
            add_to_pixels(pixels[begin:end], some, out[begin:end])


@kernel
def _levels(out, key):
    for n in range(out.size):
        out[n] = np.uint8(_word(key, n) >> np.uint64(56))
