"""The artefacts of JPEG compression, without a codec: the same pixels whatever library reads and writes files."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.jit import kernel
from varlen.kernels.packed_pixels import product8
from varlen.kernels.warp_affine import Pixels

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
