"""Painting over areas, and laying one picture over another."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.camera import random_levels
from varlen.kernels.jit import kernel
from varlen.kernels.warp_affine import Pixels
from varlen.model.effects import Cover


def fill_areas(pixels: Pixels, cover: Cover) -> None:
    """Fill the covered areas of (H, W, 3) uint8, in place."""
    color = np.array(cover.color, np.uint8)
    if cover.fill == "mean":
        # Whole numbers, so that every processor finds the same mean.
        count = pixels.shape[0] * pixels.shape[1]
        color = ((pixels.sum(axis=(0, 1), dtype=np.int64) + count // 2) // count).astype(np.uint8)
    for number, (x0, y0, x1, y1) in enumerate(cover.areas):
        part = pixels[y0:y1, x0:x1]
        part[...] = random_levels(part.shape[0] * part.shape[1], cover.key + number).reshape(part.shape) if cover.fill == "noise" else color


def blend(own: Pixels, other: Pixels, weight: float) -> Pixels:
    """w p + (1 − w) q for two pictures of one size; the weight counts in 1/65536."""
    out = np.empty(own.shape, np.uint8)
    _mix(np.ascontiguousarray(own).reshape(-1), np.ascontiguousarray(other).reshape(-1), round(weight * 65536), out.reshape(-1))
    return out


def paste_over(pixels: Pixels, other: Pixels, opacity: NDArray[np.uint8], left: int, top: int) -> None:
    """Blend `other` into `pixels` (both (H, W, 3)) where `opacity` (h, w), its corner at (left, top), is above 0; 255 is opaque."""
    height, width = opacity.shape
    part = (slice(top, top + height), slice(left, left + width))
    share = opacity[:, :, None].astype(np.uint16)
    below, above = pixels[part].astype(np.uint32), other[part].astype(np.uint32)
    pixels[part] = ((below * (255 - share) + above * share + 127) // 255).astype(np.uint8)


@kernel
def _mix(own, other, weight, out):
    rest = 65536 - weight
    for n in range(own.size):
        out[n] = np.uint8((np.uint32(own[n]) * np.uint32(weight) + np.uint32(other[n]) * np.uint32(rest) + np.uint32(32768)) >> np.uint32(16))
