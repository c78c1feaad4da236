"""What light, cameras and files do to pixels: uneven light and shadows, noise, the artifacts of JPEG compression."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.jit import kernel
from varlen.kernels.packed_pixels import product8
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


#: Quantisation tables for lightness and color (ITU-T T.81, Annex K, tables K.1 and K.2).
LIGHT = (16, 11, 10, 16, 24, 40, 51, 61, 12, 12, 14, 19, 26, 58, 60, 55, 14, 13, 16, 24, 40, 57, 69, 56, 14, 17, 22, 29, 51, 87, 80, 62,
         18, 22, 37, 56, 68, 109, 103, 77, 24, 35, 55, 64, 81, 104, 113, 92,
         49, 64, 78, 87, 103, 121, 120, 101, 72, 92, 95, 98, 112, 100, 103, 99)  # fmt: skip
COLOR = (17, 18, 24, 47, 99, 99, 99, 99, 18, 21, 26, 66, 99, 99, 99, 99, 24, 26, 56, 99, 99, 99, 99, 99, 47, 66, 99, 99, 99, 99, 99, 99,
         99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99)  # fmt: skip

#: The cosine transform of eight values, rounded so that it is the same number on every machine.
COSINES = np.array(
    [[round((0.5 if k else math.sqrt(0.125)) * math.cos((2 * n + 1) * k * math.pi / 16), 7) for n in range(8)] for k in range(8)], np.float32
)


def jpeg_artifacts(pixels: Pixels, quality: int) -> Pixels:
    """(H, W, 3) uint8 as it looks after JPEG compression at `quality` 1-100 with color at half resolution."""
    height, width = pixels.shape[:2]
    padded = np.pad(pixels, ((0, -height % 16), (0, -width % 16), (0, 0)), mode="edge")
    out = np.empty_like(padded)
    cosines, turned = COSINES.reshape(64), np.ascontiguousarray(COSINES.T).reshape(64)
    _compress(padded, out, cosines, turned, _table(LIGHT, quality), _table(COLOR, quality))
    return np.ascontiguousarray(out[:height, :width])


def _table(base: tuple[int, ...], quality: int) -> NDArray[np.float32]:
    """The customary scaling of the tables: 50 leaves them, 100 makes them ones."""
    scale = 5000 // quality if quality < 50 else 200 - 2 * quality
    return np.array([min(max((value * scale + 50) // 100, 1), 255) for value in base], np.float32)


@kernel
def _quantize(block, table):
    for n in range(64):
        block[n] = np.floor(block[n] / table[n] + np.float32(0.5)) * table[n]


@kernel
def _code(block, work, cosines, turned, table):
    """One 8 × 8 block of levels about 0, its rows one after another: transform, round to the table, transform back."""
    product8(cosines, block, work)
    product8(work, turned, block)
    _quantize(block, table)
    product8(turned, block, work)
    product8(work, cosines, block)


@kernel
def _part(line, red, green, blue):
    """The channels of a row's pixels."""
    for n in range(red.size):
        k = np.uint64(3 * n)
        red[n], green[n], blue[n] = np.float32(line[k]), np.float32(line[k + np.uint64(1)]), np.float32(line[k + np.uint64(2)])


@kernel
def _to_light(red, green, blue, light, to_blue, to_red):
    """Lightness in whole levels about 0, and a quarter of the differences of blue and red to it, of a row."""
    f = np.float32
    for n in range(light.size):
        r, g, b = red[n], green[n], blue[n]
        y = f(0.299) * r + f(0.587) * g + f(0.114) * b
        light[n] = np.floor(y + f(0.5)) - f(128)
        to_blue[n] = (b - y) * f(0.564) * f(0.25)
        to_red[n] = (r - y) * f(0.713) * f(0.25)


@kernel
def _gather_four(upper, lower, out):
    """Sums of 2 × 2 values, in reading order."""
    for n in range(out.size):
        out[n] = ((upper[2 * n] + upper[2 * n + 1]) + lower[2 * n]) + lower[2 * n + 1]


@kernel
def _code_plane(plane, block, work, cosines, turned, table):
    """A band of blocks, eight rows high."""
    for left in range(0, plane.shape[1], 8):
        for row in range(8):
            for column in range(8):
                block[8 * row + column] = plane[row, left + column]
        _code(block, work, cosines, turned, table)
        for row in range(8):
            for column in range(8):
                plane[row, left + column] = block[8 * row + column]


@kernel
def _double(values, out):
    for n in range(values.size):
        out[2 * n] = values[n]
        out[2 * n + 1] = values[n]


@kernel
def _from_light(light, to_blue, to_red, red, green, blue):
    f = np.float32
    for n in range(light.size):
        y, b, r = light[n] + f(128.5), to_blue[n], to_red[n]
        red[n] = min(max(y + f(1.402) * r, f(0)), f(255))
        green[n] = min(max(y - f(0.344) * b - f(0.714) * r, f(0)), f(255))
        blue[n] = min(max(y + f(1.772) * b, f(0)), f(255))


@kernel
def _join(red, green, blue, line):
    for n in range(red.size):
        k = np.uint64(3 * n)
        line[k], line[k + np.uint64(1)], line[k + np.uint64(2)] = (
            np.uint8(np.int32(red[n])),
            np.uint8(np.int32(green[n])),
            np.uint8(np.int32(blue[n])),
        )


@kernel
def _compress(pixels, out, cosines, turned, light_table, color_table):
    """Bands of 16 rows: lightness in two bands of blocks, color in one of half the width."""
    height, width = pixels.shape[0], pixels.shape[1]
    flat, made = pixels.reshape(pixels.size), out.reshape(out.size)
    light, to_blue, to_red = np.empty((16, width), np.float32), np.empty((2, width), np.float32), np.empty((2, width), np.float32)
    blues, reds = np.empty((8, width // 2), np.float32), np.empty((8, width // 2), np.float32)
    red, green, blue = np.empty(width, np.float32), np.empty(width, np.float32), np.empty(width, np.float32)
    block, work = np.empty(64, np.float32), np.empty(64, np.float32)
    for top in range(0, height, 16):
        for row in range(16):
            begin = 3 * width * (top + row)
            _part(flat[begin : begin + 3 * width], red, green, blue)
            _to_light(red, green, blue, light[row], to_blue[row & 1], to_red[row & 1])
            if row & 1:
                _gather_four(to_blue[0], to_blue[1], blues[row >> 1])
                _gather_four(to_red[0], to_red[1], reds[row >> 1])
        _code_plane(blues, block, work, cosines, turned, color_table)
        _code_plane(reds, block, work, cosines, turned, color_table)
        _code_plane(light[:8], block, work, cosines, turned, light_table)
        _code_plane(light[8:], block, work, cosines, turned, light_table)
        for row in range(16):
            if not row & 1:
                _double(blues[row >> 1], to_blue[0])
                _double(reds[row >> 1], to_red[0])
            _from_light(light[row], to_blue[0], to_red[0], red, green, blue)
            begin = 3 * width * (top + row)
            _join(red, green, blue, made[begin : begin + 3 * width])


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
