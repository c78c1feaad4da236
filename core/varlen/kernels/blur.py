"""Gaussian blur, separable, with weights in 1/4096; sharpening by it; and blur along a line."""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.jit import kernel
from varlen.kernels.resample import ONE, settle
from varlen.kernels.warp_affine import Pixels


@lru_cache(maxsize=1024)
def _weights(sigma: float) -> tuple[int, NDArray[np.float32]]:
    """Radius (3 σ), and the weights of the middle and of each pair of neighbours, in 1/4096, all adding up to one.

    An even number of pairs; a spare one weighs nothing.
    """
    radius = max(1, math.ceil(3.0 * sigma))
    raw = [math.exp(-0.5 * (n / sigma) ** 2) for n in range(radius + 1)]
    total = raw[0] + 2.0 * sum(raw[1:])
    pairs = [round(weight / total * ONE) for weight in raw[1:]]
    whole = [ONE - 2 * sum(pairs), *pairs, *[0] * (radius % 2)]
    return radius + radius % 2, np.array(whole, np.float32)


def gaussian(source: Pixels, sigma: float) -> Pixels:
    """(H, W, 3) uint8 blurred with standard deviation `sigma` in pixels; the border repeats."""
    out = np.empty(source.shape, np.uint8)
    _gaussian(np.ascontiguousarray(source), out, *_weights(sigma))
    return out


def sharpen(source: Pixels, amount: float) -> Pixels:
    """(H, W, 3) uint8 plus `amount` times its difference to itself blurred with σ 1."""
    out = gaussian(source, 1.0)
    _sharpen(np.ascontiguousarray(source).reshape(-1), out.reshape(-1), round(amount * 4096))
    return out


def motion_blur(source: Pixels, length: float, degrees: float) -> Pixels:
    """(H, W, 3) uint8, each pixel the mean along a line of `length` px through it; the border repeats."""
    across, down, weights = _line(length, degrees)
    reach = int(max(np.abs(across).max(), np.abs(down).max()))
    padded = np.pad(source, ((reach, reach), (reach, reach), (0, 0)), mode="edge")
    out = np.empty(source.shape, np.uint8)
    _smear(padded.reshape(len(padded), -1), out.reshape(len(out), -1), across + reach, down + reach, weights)
    return out


@lru_cache(maxsize=256)
def _line(length: float, degrees: float) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int32]]:
    """Neighbours of a pixel along a line and their weights in 1/65536: samples every half pixel, each shared by four pixels."""
    cos, sin = round(math.cos(math.radians(degrees)), 9), -round(math.sin(math.radians(degrees)), 9)
    count = max(1, round(length))
    taps: dict[tuple[int, int], float] = {}
    for n in range(-count, count + 1):
        x, y = cos * n * length / (2 * count), sin * n * length / (2 * count)
        i, j = math.floor(x), math.floor(y)
        for dx, dy, share in (
            (0, 0, (1 - x + i) * (1 - y + j)),
            (1, 0, (x - i) * (1 - y + j)),
            (0, 1, (1 - x + i) * (y - j)),
            (1, 1, (x - i) * (y - j)),
        ):
            if share > 0.0:
                taps[i + dx, j + dy] = taps.get((i + dx, j + dy), 0.0) + share
    whole = {place: round(weight / (2 * count + 1) * 65536) for place, weight in taps.items()}
    largest = max(whole, key=lambda place: (whole[place], place))
    whole[largest] += 65536 - sum(whole.values())
    places = sorted(whole)
    return np.array([x for x, _ in places]), np.array([y for _, y in places]), np.array([whole[place] for place in places], np.int32)


@kernel
def _sharpen(source, out, amount: int):
    for n in range(out.size):
        level = np.int32(source[n])
        change = np.int32(np.int32(np.int32(level - np.int32(out[n])) * np.int32(amount)) + np.int32(2048)) >> np.int32(12)
        out[n] = np.uint8(min(max(level + change, 0), 255))  # type: ignore[arg-type]


@kernel
def _add_weighted(total, line, weight):
    for n in range(total.size):
        total[n] += np.int32(np.int32(line[n]) * weight)


@kernel
def _smear(padded, out, across, down, weights):
    total = np.empty(out.shape[1], np.int32)
    for row in range(out.shape[0]):
        total[:] = 32768
        for tap in range(weights.size):
            begin = 3 * across[tap]
            _add_weighted(total, padded[row + down[tap]][begin : begin + total.size], weights[tap])
        for n in range(total.size):
            out[row, n] = np.uint8(total[n] >> 16)


@kernel
def _begin(total, middle, weight, count):
    for n in range(count):
        total[n] = np.float32(middle[n]) * weight


@kernel
def _add_pairs(total, a, b, c, d, near, far, count):
    """total += near (a + b) + far (c + d): neighbours at the same distance share a weight."""
    for n in range(count):
        total[n] += (np.float32(a[n]) + np.float32(b[n])) * near + (np.float32(c[n]) + np.float32(d[n])) * far


@kernel
def _add_level_pairs(total, a, b, c, d, near, far, count):
    """The same for levels, whose sums are exact as whole numbers."""
    for n in range(count):
        one, two = np.uint16(a[n]) + np.uint16(b[n]), np.uint16(c[n]) + np.uint16(d[n])
        total[n] += np.float32(np.int32(one)) * near + np.float32(np.int32(two)) * far


@kernel
def _gaussian(source, out, radius, weights):
    height, width = source.shape[0], source.shape[1]
    count = 3 * width
    flat = source.reshape(source.size)
    padded = np.zeros(count + 6 * radius, np.float32)
    middle = padded[3 * radius : 3 * radius + count]
    total = np.empty(count, np.float32)
    for row in range(height):
        _begin(middle, flat[count * row : count * row + count], weights[0], count)
        for n in range(1, radius + 1, 2):
            a, b = count * max(row - n, 0), count * min(row + n, height - 1)
            c, d = count * max(row - n - 1, 0), count * min(row + n + 1, height - 1)
            _add_level_pairs(middle, flat[a : a + count], flat[b : b + count], flat[c : c + count], flat[d : d + count],
                             weights[n], weights[n + 1], count)  # fmt: skip
        for n in range(radius):
            for channel in range(3):
                padded[3 * n + channel] = middle[channel]
                padded[3 * (radius + width + n) + channel] = middle[count - 3 + channel]
        _begin(total, middle, weights[0], count)
        for n in range(1, radius + 1, 2):
            p, q = 3 * (radius - n), 3 * (radius + n)
            _add_pairs(total, padded[p : p + count], padded[q : q + count], padded[p - 3 : p - 3 + count], padded[q + 3 : q + 3 + count],
                       weights[n], weights[n + 1], count)  # fmt: skip
        settle(total, out[row].reshape(count), count)
