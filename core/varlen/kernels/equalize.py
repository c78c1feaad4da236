"""Local contrast with a limit (Zuiderveld, Contrast Limited Adaptive Histogram Equalization, 1994)."""

from __future__ import annotations

import numpy as np

from varlen.kernels.camera import add_to_pixels
from varlen.kernels.jit import kernel
from varlen.kernels.warp_affine import Pixels


def equalize(pixels: Pixels, tiles: int, limit: float) -> Pixels:
    """(H, W, 3) uint8 with lightness evened out in `tiles` × `tiles` regions; `limit` as a multiple of the mean bin."""
    height, width = pixels.shape[:2]
    down, across = min(tiles, height), min(tiles, width)
    light = np.empty((height, width), np.uint8)
    curves = np.empty((down, across, 256), np.float32)
    out = np.empty(pixels.shape, np.uint8)
    source = np.ascontiguousarray(pixels)
    _curves(source, light, curves, limit)
    _apply(source, light, curves, out)
    return out


@kernel
def _lightness(pixels, light):
    for n in range(light.size):
        k = 3 * n
        total = np.int32(np.int32(77) * np.int32(pixels[k])) + np.int32(np.int32(150) * np.int32(pixels[k + 1]))
        light[n] = np.uint8(np.int32(np.int32(total) + np.int32(np.int32(29) * np.int32(pixels[k + 2])) + np.int32(128)) >> np.int32(8))


@kernel
def _count(line, counts):
    for n in range(line.size):
        counts[np.uint64(line[n])] += 1


@kernel
def _curves(pixels, light, curves, limit):
    height, width = light.shape
    down, across = curves.shape[0], curves.shape[1]
    bins = np.empty(256, np.float64)
    counts = np.empty(256, np.int64)
    _lightness(pixels.reshape(pixels.size), light.reshape(light.size))
    for i in range(down):
        for j in range(across):
            counts[:] = 0
            top, bottom, left, right = i * height // down, (i + 1) * height // down, j * width // across, (j + 1) * width // across
            for row in range(top, bottom):
                _count(light[row, left:right], counts)
            for level in range(256):
                bins[level] = counts[level]
            count = (bottom - top) * (right - left)
            most = limit * count / 256.0
            # Every bin is raised alike and cut off at the limit; by how much so that all still add up is found by halving.
            low, high = 0.0, most
            for _ in range(30):
                raised = (low + high) / 2.0
                total = 0.0
                for level in range(256):
                    total += min(bins[level] + raised, most)
                low, high = (raised, high) if total < count else (low, raised)
            for level in range(256):
                bins[level] = min(bins[level] + low, most)
            total = 0.0
            for level in range(256):
                # The middle of each bin: even bins then leave every level where it is.
                curves[i, j, level] = (total + bins[level] / 2.0) * 256.0 / count - 0.5
                total += bins[level]


@kernel
def _neighbours(length, tiles, before, after, shares):
    """For each place along a side the regions before and after it, and how near it is to the second."""
    for n in range(length):
        place = (n + 0.5) * tiles / length - 0.5
        first = int(np.floor(place))
        shares[n] = np.float32(place - first)
        before[n], after[n] = max(first, 0), min(first + 1, tiles - 1)


@kernel
def _changes(light, upper, lower, before, after, shares, t, changes):
    """What is added to each pixel of a row. upper, lower: the curves of the regions above and below, one after another."""
    one = np.float32(1)
    rest = one - t
    for column in range(light.size):
        k = np.uint64(column)
        s = shares[k]
        level = np.uint64(light[k])
        left, right = np.uint64(before[k]) * np.uint64(256) + level, np.uint64(after[k]) * np.uint64(256) + level
        above = upper[left] * (one - s) + upper[right] * s
        below = lower[left] * (one - s) + lower[right] * s
        changes[k] = np.int32(np.floor(above * rest + below * t - np.float32(light[k]) + np.float32(0.5)))


@kernel
def _apply(pixels, light, curves, out):
    height, width = light.shape
    down, across = curves.shape[0], curves.shape[1]
    flat, made = pixels.reshape(pixels.size), out.reshape(out.size)
    before, after, shares = np.empty(width, np.int64), np.empty(width, np.int64), np.empty(width, np.float32)
    above, below, parts = np.empty(height, np.int64), np.empty(height, np.int64), np.empty(height, np.float32)
    _neighbours(width, across, before, after, shares)
    _neighbours(height, down, above, below, parts)
    changes = np.empty(width, np.int32)
    for row in range(height):
        upper, lower = curves[above[row]].reshape(across * 256), curves[below[row]].reshape(across * 256)
        _changes(light[row], upper, lower, before, after, shares, parts[row], changes)
        begin = 3 * width * row
        add_to_pixels(flat[begin : begin + 3 * width], changes, made[begin : begin + 3 * width])
