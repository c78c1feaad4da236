"""Gaussian blur, separable, with weights in 1/4096; sharpening by it; and blur along a line."""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.jit import kernel
from varlen.kernels.resample import ONE, settle
from varlen.kernels.warp_affine import Pixels
from varlen.kernels.wide_levels import HAS_WIDE, WIDE, down16


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
def _down(flat, rows, weights, radius, middle):
    """Σ weights · levels down the columns, for a whole row. rows: where the middle row and its neighbours begin, pair by pair, above and below.

    Levels times weights are whole numbers below 2²⁴, so that their sums are exact whatever the order.
    """
    count = middle.size
    m, w0 = np.uint64(rows[0]), np.int32(weights[0])
    for n in range(count):
        middle[n] = np.float32(np.int32(np.int32(flat[m + np.uint64(n)]) * w0))
    for pair in range(0, radius, 2):
        a, b, c, d = np.uint64(rows[2 * pair + 1]), np.uint64(rows[2 * pair + 2]), np.uint64(rows[2 * pair + 3]), np.uint64(rows[2 * pair + 4])
        near, far = np.float32(weights[pair + 1]), np.float32(weights[pair + 2])
        for n in range(count):
            k = np.uint64(n)
            one, two = np.uint16(flat[a + k]) + np.uint16(flat[b + k]), np.uint16(flat[c + k]) + np.uint16(flat[d + k])
            middle[n] += np.float32(np.int32(one)) * near + np.float32(np.int32(two)) * far


@kernel
def _down6_wide(flat, rows, weights, pairs, middle):
    """As `_down6`, sixteen levels at a time."""
    wide = middle.size // WIDE * WIDE
    for n in range(0, wide, WIDE):
        down16(flat, rows, np.uint64(n), pairs, middle)
    _down6(flat, rows, weights, middle, wide)


@kernel
def _down6(flat, rows, weights, middle, first):
    """As `_down` for six neighbours on either side, the most common number, in one go; from level `first` on."""
    m = np.uint64(rows[0])
    a1, b1, a2, b2, a3, b3 = np.uint64(rows[1]), np.uint64(rows[2]), np.uint64(rows[3]), np.uint64(rows[4]), np.uint64(rows[5]), np.uint64(rows[6])
    a4, b4, a5, b5, a6, b6 = np.uint64(rows[7]), np.uint64(rows[8]), np.uint64(rows[9]), np.uint64(rows[10]), np.uint64(rows[11]), np.uint64(rows[12])
    w0, w1, w2, w3, w4, w5, w6 = weights[0], weights[1], weights[2], weights[3], weights[4], weights[5], weights[6]
    for n in range(first, middle.size):
        k = np.uint64(n)
        total = np.float32(flat[m + k]) * w0
        total += np.float32(np.int32(np.uint16(flat[a1 + k]) + np.uint16(flat[b1 + k]))) * w1
        total += np.float32(np.int32(np.uint16(flat[a2 + k]) + np.uint16(flat[b2 + k]))) * w2
        total += np.float32(np.int32(np.uint16(flat[a3 + k]) + np.uint16(flat[b3 + k]))) * w3
        total += np.float32(np.int32(np.uint16(flat[a4 + k]) + np.uint16(flat[b4 + k]))) * w4
        total += np.float32(np.int32(np.uint16(flat[a5 + k]) + np.uint16(flat[b5 + k]))) * w5
        total += np.float32(np.int32(np.uint16(flat[a6 + k]) + np.uint16(flat[b6 + k]))) * w6
        middle[k] = total


@kernel
def _across(padded, weights, radius, total):
    """Σ weights · sums along a row; neighbours at the same distance share a weight."""
    count = total.size
    begin, w0 = np.uint64(3 * radius), weights[0]
    for n in range(count):
        total[n] = padded[begin + np.uint64(n)] * w0
    for n in range(1, radius + 1, 2):
        p, q = np.uint64(3 * (radius - n)), np.uint64(3 * (radius + n))
        r, s = np.uint64(3 * (radius - n - 1)), np.uint64(3 * (radius + n + 1))
        near, far = weights[n], weights[n + 1]
        for m in range(count):
            k = np.uint64(m)
            total[k] += (padded[p + k] + padded[q + k]) * near + (padded[r + k] + padded[s + k]) * far


@kernel
def _across6(padded, weights, out):
    """As `_across` for six neighbours on either side, the same sums in the same order, in one go and down to levels."""
    w0, w1, w2, w3, w4, w5, w6 = weights[0], weights[1], weights[2], weights[3], weights[4], weights[5], weights[6]
    unit, half = np.float32(1.0 / ONE / ONE), np.float32(0.5)
    for n in range(out.size):
        k = np.uint64(n)
        total = padded[k + np.uint64(18)] * w0
        total += (padded[k + np.uint64(15)] + padded[k + np.uint64(21)]) * w1 + (padded[k + np.uint64(12)] + padded[k + np.uint64(24)]) * w2
        total += (padded[k + np.uint64(9)] + padded[k + np.uint64(27)]) * w3 + (padded[k + np.uint64(6)] + padded[k + np.uint64(30)]) * w4
        total += (padded[k + np.uint64(3)] + padded[k + np.uint64(33)]) * w5 + (padded[k] + padded[k + np.uint64(36)]) * w6
        out[k] = np.uint8(np.int32(total * unit + half))


@kernel
def _gaussian(source, out, radius, weights):
    height, width = source.shape[0], source.shape[1]
    count = 3 * width
    flat, made = source.reshape(source.size), out.reshape(out.size)
    padded = np.zeros(count + 6 * radius, np.float32)
    middle = padded[3 * radius : 3 * radius + count]
    total = np.empty(count, np.float32)
    rows = np.empty(2 * radius + 1, np.int64)
    pairs = np.zeros(8, np.int16)
    if radius == 6:
        for n in range(7):
            pairs[n] = np.int16(weights[n])
    for row in range(height):
        rows[0] = count * row
        for n in range(1, radius + 1):
            rows[2 * n - 1], rows[2 * n] = count * max(row - n, 0), count * min(row + n, height - 1)
        if radius == 6:
            if HAS_WIDE:
                _down6_wide(flat, rows, weights, pairs, middle)
            else:
                _down6(flat, rows, weights, middle, 0)
        else:
            _down(flat, rows, weights, radius, middle)
        for n in range(radius):
            for channel in range(3):
                padded[3 * n + channel] = middle[channel]
                padded[3 * (radius + width + n) + channel] = middle[count - 3 + channel]
        line = made[count * row : count * row + count]
        if radius == 6:
            _across6(padded, weights, line)
        else:
            _across(padded, weights, radius, total)
            settle(total, line, count)
