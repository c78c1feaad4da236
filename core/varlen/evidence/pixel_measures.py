"""What is measured of a picture's pixels: light and color, sharpness and noise, traces of compression."""

from __future__ import annotations

import io
import math
from functools import lru_cache

import numpy as np
import scipy.fft
from numpy.typing import NDArray
from PIL import Image

from varlen.datasets.image_files import BROKEN
from varlen.kernels.camera import LIGHT
from varlen.kernels.detail_energy import PROBE_SIGMA, WEIGHTS, block_details
from varlen.kernels.warp_affine import Pixels
from varlen.steps.color import LUMA

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
      unevenness  (95th − 5th percentile of f) / mean f, f the least-crops surface of second order through y
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


#: A block's side, px, and that for pictures too small for enough of them.
BLOCK, SMALL_BLOCK = 16, 4
#: A picture with a shorter side is measured in small blocks.
SMALL = 96
#: Share of a block's pixels at an end of the scale from which its grain is cut off.
MOST_CLIPPED = 0.01
#: The share of blocks, those with the least gradient, whose grain is taken for noise.
FLATTEST = 0.1
#: Variance that rounding to whole levels adds.
ROUNDING = 1.0 / 12.0
#: What the formula of sharpness finds too much: nothing where power falls exactly as assumed, a fifth in photographs, whose power falls faster.
TOO_MUCH = 1.1
#: The widest blur that is told, px.
WIDEST = 50.0


def _noise_after() -> float:
    """Of white noise of variance 1, the gradient energy after the probe's blur. Before it, it is 1."""
    line = np.concatenate([WEIGHTS[:0:-1], WEIGHTS]).astype(np.float64)
    slope = np.convolve(line, [0.5, 0.0, -0.5])
    return float(2.0 * (slope**2).sum() * (line**2).sum())


NOISE_AFTER = _noise_after()


def detail_of(pixels: Pixels, seen: NDArray[np.bool_] | None = None) -> dict[str, float]:
    """Sharpness as the σ in px of the Gaussian blur the picture seems to have had, and noise as σ in levels.

    pixels: (H, W, 3) uint8; seen: (h, w) at any size, where it shows picture and not fill.
      noise      √(mean square of [1 −2 1; −2 4 −2; 1 −2 1] / 6 on green − 1/12), over the tenth of the blocks that vary least
                 (J. Immerkær, “Fast noise variance estimation”, 1996; 1/12 is the rounding's own)
      sharpness  s √(R / (1 − R)) / 1.1, R = gradient energy after one more blur of s = 1.5 px / before, the noise's share taken
                 out of both. Where power falls with the square of the frequency, gradient energy after a blur σ goes as 1 / σ², and
                 R = σ² / (σ² + s²); the factor was fitted over photographs and rendered pictures of many kinds.
    """
    small = min(pixels.shape[:2]) < SMALL
    facts = block_details(pixels, SMALL_BLOCK if small else BLOCK)
    facts = facts[_blocks_seen(facts.shape[:2], seen)] if seen is not None else facts.reshape(-1, facts.shape[-1])
    if not len(facts):
        return {"sharpness": 0.0, "noise": 0.0}
    gradient, blurred, grain, luma_grain, clipped = facts.T
    flat = _flattest(gradient, clipped)
    noise = max(float(grain[flat].mean()) - ROUNDING, 0.0)
    luma_noise = min(float(luma_grain[flat].mean()), float(luma_grain.mean()))
    before = float(gradient.mean()) - luma_noise
    after = float(blurred.mean()) - luma_noise * NOISE_AFTER
    return {"sharpness": _equivalent_sigma(before, after), "noise": math.sqrt(noise)}


def _equivalent_sigma(before: float, after: float) -> float:
    if before <= 1e-6 or after <= 0.0:
        return 0.0
    left = min(after / before, 1.0 - 1e-9)
    return min(PROBE_SIGMA * math.sqrt(left / (1.0 - left)) / TOO_MUCH, WIDEST)


def _flattest(gradient: NDArray[np.float64], clipped: NDArray[np.float64]) -> NDArray[np.int64]:
    """Places of the blocks whose grain is the sensor's: they vary least, and are neither cut off nor one plain color."""
    usable = np.flatnonzero((clipped <= MOST_CLIPPED) & (gradient > 0.0))
    if not len(usable):
        usable = np.arange(len(gradient))
    order = np.argsort(gradient[usable], kind="stable")
    return usable[order[: max(1, round(len(usable) * FLATTEST))]]


def _blocks_seen(shape: tuple[int, ...], seen: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Which blocks lie on picture alone, by the pixels of `seen` at and around their middles."""
    rows, columns = shape[0], shape[1]
    y = ((np.arange(rows) + 0.5) / max(rows, 1) * seen.shape[0]).astype(int)
    x = ((np.arange(columns) + 0.5) / max(columns, 1) * seen.shape[1]).astype(int)
    padded = np.pad(seen, 2, mode="edge")
    found = np.ones((rows, columns), np.bool_)
    for dy in range(5):
        for dx in range(5):
            found &= padded[np.ix_(y + dy, x + dx)]
    return found


#: Quality of a picture that shows no compression.
UNTOUCHED = 100
#: Coefficients looked at: the lowest but the mean, in rows.
LOW = np.array([1, 2, 3, 8, 9, 10, 16, 17, 24])
#: Blocks, and coefficients that must be there for an answer.
MOST_BLOCKS, FEWEST = 400, 60
#: Mean distance from a multiple, in entries; 0.25 for coefficients that keep to none.
ON_MULTIPLES = 0.12
#: Above it an entry is no larger than what rounding to whole levels does.
SEEN_UP_TO = 92


@lru_cache(maxsize=1)
def _tables() -> NDArray[np.int64]:
    """The sorted luminance tables of quality 1 to 100, (100, 64): Annex K of ITU-T T.81, scaled as is usual.

    Sorted, because files and libraries list them in different orders, and scaling keeps their order.
    """
    return np.sort(_natural_tables(), axis=1)


@lru_cache(maxsize=1)
def _natural_tables() -> NDArray[np.int64]:
    """The same, each in the order of its rows."""
    quality = np.arange(1, 101, dtype=np.int64)
    scale = np.where(quality < 50, 5000 // quality, 200 - 2 * quality)
    tables: NDArray[np.int64] = np.clip((np.array(LIGHT)[None, :] * scale[:, None] + 50) // 100, 1, 255)
    return tables


def quality_of_file(data: bytes) -> int | None:
    """The quality a JPEG was written with, 1-100, from its luminance table; None for what is no JPEG.

    Tables of another maker get the quality whose table is nearest in logarithms.
    """
    try:
        tables = getattr(Image.open(io.BytesIO(data), formats=("JPEG",)), "quantization", None)
    except BROKEN:
        return None
    if not tables or 0 not in tables:
        return None
    found = np.sort(np.array(tables[0], np.float64))
    if len(found) != 64:
        return None
    distance = np.abs(np.log(_tables()) - np.log(np.maximum(found, 1.0))).sum(axis=1)
    # Several qualities may share one table only at the very ends; the higher is as true.
    return int(np.flatnonzero(distance == distance.min())[-1]) + 1


def quality_of_pixels(pixels: Pixels) -> float:
    """The quality a picture was once compressed with, as its pixels show it, 1-100; 100 where they show none.

    Coefficients of 8 × 8 blocks (DCT-II, from the picture's corner) of a decompressed JPEG lie at multiples of its table's entries
    (Z. Fan and R. de Queiroz, “Identification of bitmap compression history”, 2003). The lowest quality whose multiples the
    coefficients keep to best is taken. Seen from about 92 down, and only until the picture is moved or scaled.
    """
    height, width = pixels.shape[0] // 8 * 8, pixels.shape[1] // 8 * 8
    if min(height, width) < 24:
        return float(UNTOUCHED)
    luma = pixels[:height, :width].astype(np.float64) @ np.array(LUMA) - 128.0
    blocks = luma.reshape(height // 8, 8, width // 8, 8).transpose(0, 2, 1, 3).reshape(-1, 8, 8)
    blocks = blocks[:: max(1, len(blocks) // MOST_BLOCKS)]
    found = scipy.fft.dctn(blocks, axes=(1, 2), norm="ortho").reshape(-1, 64)[:, LOW]
    errors = [_off_multiples(found, _natural_tables()[quality, LOW].astype(np.float64)) for quality in range(SEEN_UP_TO)]
    first = next((place for place, error in enumerate(errors) if error < ON_MULTIPLES), None)
    if first is None:
        return float(UNTOUCHED)
    while first + 1 < SEEN_UP_TO and errors[first + 1] <= errors[first]:
        first += 1
    return float(first + 1)


def _off_multiples(found: NDArray[np.float64], table: NDArray[np.float64]) -> float:
    """Mean distance of coefficients from multiples of a table's entries, in entries; 1 where too few can tell.

    A coefficient below half an entry is rounded to nothing, which says little: only the others count.
    """
    counted = np.abs(found) > 0.5 * table
    if int(counted.sum()) < FEWEST:
        return 1.0
    steps = found / table
    return float(np.abs(steps - np.rint(steps))[counted].mean())
