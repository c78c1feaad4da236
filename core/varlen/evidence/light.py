"""Conditions of light and color, measured on a thumbnail."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from varlen.steps.color_jitter import LUMA

Floats = NDArray[np.float64]
#: Linear light below which a channel counts as this much, so that ratios of black pictures are finite.
DARKEST = 1e-4
#: Mean luma, in levels, below which saturation is measured against this.
FAINT = 1.0


@lru_cache(maxsize=1)
def _linear_levels() -> Floats:
    """Linear light of each level, 0 … 1 (IEC 61966-2-1)."""
    share = np.arange(256) / 255.0
    return np.where(share <= 0.04045, share / 12.92, ((share + 0.055) / 1.055) ** 2.4)


def light_of(thumbnail: NDArray[np.uint8], seen: NDArray[np.bool_]) -> dict[str, float]:
    """Brightness, contrast, warmth, tint, saturation and unevenness.

    thumbnail: (H, W, 3) uint8; seen: (H, W), where it shows picture and not fill; at least one pixel is.
    With y = 0.299 r + 0.587 g + 0.114 b (ITU-R BT.601) over the pixels that are seen:
      brightness  mean y / 255
      contrast    (95th − 5th percentile of y) / 255
      warmth      ln(R / B), R, G, B the mean linear light of the channels (IEC 61966-2-1)
      tint        ln(G / √(R B)); above 0: greener
      saturation  √(mean of ((r − y)² + (g − y)² + (b − y)²) / 3) / mean y
      unevenness  (95th − 5th percentile of f) / mean f, f the least-squares surface of second order through y
    """
    pixels = thumbnail[seen]
    levels = pixels.astype(np.float64)
    luma = levels @ np.array(LUMA)
    low, high = np.quantile(luma, (0.05, 0.95))
    red, green, blue = np.maximum(_linear_levels()[pixels].mean(axis=0), DARKEST)
    mean = float(luma.mean())
    distance = np.sqrt(((levels - luma[:, None]) ** 2).sum(axis=1).mean() / 3.0)
    return {
        "brightness": mean / 255.0,
        "contrast": float(high - low) / 255.0,
        "warmth": float(np.log(red / blue)),
        "tint": float(np.log(green / np.sqrt(red * blue))),
        "saturation": float(distance) / max(mean, FAINT),
        "unevenness": _unevenness(luma, seen),
    }


def _unevenness(luma: Floats, seen: NDArray[np.bool_]) -> float:
    """How far a surface of second order through the luma of the pixels seen reaches, as a share of its mean."""
    height, width = seen.shape
    y, x = np.nonzero(seen)
    across, down = (x + 0.5) / width * 2.0 - 1.0, (y + 0.5) / height * 2.0 - 1.0
    terms = np.stack([np.ones_like(across), across, down, across * across, across * down, down * down], axis=1)
    # By its normal equations: six terms over [−1, 1] are far from dependent, and the sums don't depend on threads.
    normal = np.einsum("ni,nj->ij", terms, terms) + 1e-9 * len(x) * np.eye(6)
    factors = np.linalg.solve(normal, np.einsum("ni,n->i", terms, luma))
    surface = np.einsum("ni,i->n", terms, factors)
    low, high = np.quantile(surface, (0.05, 0.95))
    return float(high - low) / max(float(surface.mean()), FAINT)
