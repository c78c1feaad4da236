"""The conditions that pictures are compared by: their names, units and words, and measuring them on one picture."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from varlen.evidence.detail import detail_of
from varlen.evidence.light import light_of
from varlen.kernels.resample import shrunk
from varlen.kernels.warp_affine import Pixels

#: The longer side of the thumbnail that light and color are measured on, px.
THUMBNAIL = 128
#: Share of a thumbnail's pixel that must show picture for it to count.
MOSTLY = 250


@dataclass(frozen=True, slots=True)
class Condition:
    """What is measured: its unit in a plot, and what a low and a high value look like."""

    name: str
    unit: str
    low: str
    high: str


#: Of pixels, in the order they are shown in.
OF_PIXELS = (
    Condition("brightness", "of white", "darker", "brighter"),
    Condition("contrast", "of white", "flatter", "more contrast"),
    Condition("warmth", "ln red/blue", "cooler", "warmer"),
    Condition("tint", "ln green/other", "more magenta", "greener"),
    Condition("saturation", "of luma", "paler", "more colorful"),
    Condition("unevenness", "of mean luma", "more evenly lit", "more unevenly lit"),
    Condition("sharpness", "px of blur", "sharper", "softer"),
    Condition("noise", "levels", "cleaner", "noisier"),
    Condition("compression", "JPEG quality", "more compressed", "less compressed"),
)
#: Of labels.
OF_LABELS = (
    Condition("size", "of the picture's side", "smaller objects", "larger objects"),
    Condition("orientation", "degrees from level", "lying", "upright"),
    Condition("crowding", "objects a picture", "emptier", "more crowded"),
)
ALL = OF_PIXELS + OF_LABELS
BY_NAME = {each.name: each for each in ALL}
PIXEL_NAMES = tuple(each.name for each in OF_PIXELS)
LABEL_NAMES = tuple(each.name for each in OF_LABELS)


def thumbnail_of(pixels: Pixels) -> Pixels:
    """The picture with its longer side at most `THUMBNAIL` px, averaged."""
    height, width = pixels.shape[:2]
    factor = min(1.0, THUMBNAIL / max(height, width))
    return shrunk(np.ascontiguousarray(pixels), max(1, round(width * factor)), max(1, round(height * factor)))


def conditions_of(pixels: Pixels, seen: Pixels | None = None) -> dict[str, float]:
    """The conditions of one picture that its pixels show, all but compression; always finite.

    pixels: (H, W, 3) or (H, W, 1) uint8; seen: the same size, 255 where it shows picture and 0 where fill.
    """
    if pixels.shape[2] == 1:
        pixels = np.repeat(pixels, 3, axis=2)
    small = thumbnail_of(pixels)
    shown: NDArray[np.bool_] = np.ones(small.shape[:2], np.bool_)
    if seen is not None:
        shown = thumbnail_of(seen)[:, :, 0] >= MOSTLY
        if not shown.any():
            shown = np.ones(small.shape[:2], np.bool_)
    return {**light_of(small, shown), **detail_of(pixels, None if shown.all() else shown)}
