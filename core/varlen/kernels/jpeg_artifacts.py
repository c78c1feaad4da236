"""The artefacts of JPEG compression, without a codec: the same pixels whatever library reads and writes files."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.jit import kernel
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
    _compress(padded, out, COSINES, _table(LIGHT, quality), _table(COLOR, quality))
    return np.ascontiguousarray(out[:height, :width])


def _table(base: tuple[int, ...], quality: int) -> NDArray[np.float32]:
    """The customary scaling of the tables: 50 leaves them, 100 makes them ones."""
    scale = 5000 // quality if quality < 50 else 200 - 2 * quality
    return np.array([min(max((value * scale + 50) // 100, 1), 255) for value in base], np.float32).reshape(8, 8)


@kernel
def _code(block, work, cosines, table):
    """One 8 × 8 block of levels about 0: transform, round to the table, transform back."""
    for direction in range(2):
        # Forward: C · block · Cᵀ; back: Cᵀ · block · C. Each product row by row.
        for row in range(8):
            for column in range(8):
                work[row, column] = np.float32(0)
            for k in range(8):
                factor = cosines[row, k] if direction == 0 else cosines[k, row]
                for column in range(8):
                    work[row, column] += factor * block[k, column]
        for row in range(8):
            for column in range(8):
                block[row, column] = np.float32(0)
            for k in range(8):
                value = work[row, k]
                for column in range(8):
                    block[row, column] += value * (cosines[column, k] if direction == 0 else cosines[k, column])
        if direction == 0:
            for row in range(8):
                for column in range(8):
                    step = table[row, column]
                    block[row, column] = np.floor(block[row, column] / step + np.float32(0.5)) * step


@kernel
def _compress(pixels, out, cosines, light_table, color_table):
    height, width = pixels.shape[0], pixels.shape[1]
    light = np.empty((16, 16), np.float32)
    blue, red = np.empty((8, 8), np.float32), np.empty((8, 8), np.float32)
    block, work = np.empty((8, 8), np.float32), np.empty((8, 8), np.float32)
    f = np.float32
    for top in range(0, height, 16):
        for left in range(0, width, 16):
            blue[:] = f(0)
            red[:] = f(0)
            for row in range(16):
                for column in range(16):
                    r, g, b = f(pixels[top + row, left + column, 0]), f(pixels[top + row, left + column, 1]), f(pixels[top + row, left + column, 2])
                    y = f(0.299) * r + f(0.587) * g + f(0.114) * b
                    light[row, column] = np.floor(y + f(0.5)) - f(128)
                    blue[row >> 1, column >> 1] += (b - y) * f(0.564) * f(0.25)
                    red[row >> 1, column >> 1] += (r - y) * f(0.713) * f(0.25)
            _code(blue, work, cosines, color_table)
            _code(red, work, cosines, color_table)
            for down in range(0, 16, 8):
                for across in range(0, 16, 8):
                    for row in range(8):
                        for column in range(8):
                            block[row, column] = light[down + row, across + column]
                    _code(block, work, cosines, light_table)
                    for row in range(8):
                        for column in range(8):
                            light[down + row, across + column] = block[row, column]
            for row in range(16):
                for column in range(16):
                    y = light[row, column] + f(128.5)
                    b, r = blue[row >> 1, column >> 1], red[row >> 1, column >> 1]
                    out[top + row, left + column, 0] = np.uint8(min(max(y + f(1.402) * r, f(0)), f(255)))
                    out[top + row, left + column, 1] = np.uint8(min(max(y - f(0.344) * b - f(0.714) * r, f(0)), f(255)))
                    out[top + row, left + column, 2] = np.uint8(min(max(y + f(1.772) * b, f(0)), f(255)))
