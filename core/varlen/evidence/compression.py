"""How strongly a picture was compressed: from a JPEG's own tables, else from what its pixels show of the tables."""

from __future__ import annotations

import io
from functools import lru_cache

import numpy as np
import scipy.fft
from numpy.typing import NDArray
from PIL import Image

from varlen.datasets.image_files import BROKEN
from varlen.kernels.jpeg_artifacts import LIGHT
from varlen.kernels.warp_affine import Pixels
from varlen.steps.color_jitter import LUMA

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
