"""Local contrast with a limit (Zuiderveld, Contrast Limited Adaptive Histogram Equalization, 1994)."""

from __future__ import annotations

import numpy as np

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
def _curves(pixels, light, curves, limit):
    height, width = light.shape
    down, across = curves.shape[0], curves.shape[1]
    bins = np.empty(256, np.float64)
    for row in range(height):
        for column in range(width):
            light[row, column] = (77 * pixels[row, column, 0] + 150 * pixels[row, column, 1] + 29 * pixels[row, column, 2] + 128) >> 8
    for i in range(down):
        for j in range(across):
            bins[:] = 0.0
            top, bottom, left, right = i * height // down, (i + 1) * height // down, j * width // across, (j + 1) * width // across
            for row in range(top, bottom):
                for column in range(left, right):
                    bins[light[row, column]] += 1.0
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
def _apply(pixels, light, curves, out):
    height, width = light.shape
    down, across = curves.shape[0], curves.shape[1]
    for row in range(height):
        y = (row + 0.5) * down / height - 0.5
        i = int(np.floor(y))
        t = np.float32(y - i)
        i0, i1 = max(i, 0), min(i + 1, down - 1)
        for column in range(width):
            x = (column + 0.5) * across / width - 0.5
            j = int(np.floor(x))
            s = np.float32(x - j)
            j0, j1 = max(j, 0), min(j + 1, across - 1)
            level = light[row, column]
            upper = curves[i0, j0, level] * (np.float32(1) - s) + curves[i0, j1, level] * s
            lower = curves[i1, j0, level] * (np.float32(1) - s) + curves[i1, j1, level] * s
            change = int(np.floor(upper * (np.float32(1) - t) + lower * t - np.float32(level) + np.float32(0.5)))
            for channel in range(3):
                out[row, column, channel] = min(max(pixels[row, column, channel] + change, 0), 255)
