"""What is black and what is white in pictures of more than 8 bits: a rule given at import.

A rule is written `low..high` (levels from low to high become 0 to 255), `min-max` (likewise, from each picture's own
smallest and largest level) or `percentile` (from its 1st and 99th percentile). Levels outside are cut off. `bands` leaves
levels as they are: red, green and blue are the first three of more bands. A rule serves every picture of more than 8 bits a
channel, or of more bands than color has; of several pages the first is read, of several bands the first three.
"""

from __future__ import annotations

import io
import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from varlen.datasets.image_files import (
    BROKEN,
    TIFF_MARKS,
    ImageHeader,
    decode_levels,
    opened,
    tiff_orientation,
    to_turn,
    upright_pixels,
    upright_raster,
)
from varlen.errors import DatasetError, ImageError

#: Shares of the levels that `percentile` cuts off at each end.
CUT = 1.0


@dataclass(frozen=True, slots=True)
class LevelRule:
    """How levels become 8 bits. kind: "" for none, "range", "min-max", "percentile" or "bands"; low, high: of a range."""

    kind: str = ""
    low: float = 0.0
    high: float = 0.0

    @classmethod
    def parse(cls, text: str) -> LevelRule:
        """From its written form. Raises `DatasetError`."""
        if text in ("", "min-max", "percentile", "bands"):
            return cls(text)
        low, dots, high = text.partition("..")
        try:
            found = cls("range", float(low), float(high))
        except ValueError:
            dots = ""
        if not dots or not -math.inf < found.low < found.high < math.inf:
            raise DatasetError(f"levels: expected low..high (such as 0..4095), min-max, percentile or bands, not {text!r}")
        return found

    def __str__(self) -> str:
        return f"{self.low:g}..{self.high:g}" if self.kind == "range" else self.kind

    def serves(self, facts: ImageHeader | None) -> bool:
        """Whether a picture with this header is read by the rule; a TIFF without a readable header is."""
        if self.kind == "bands":
            return facts is None or facts.unclear.endswith("bands")
        return bool(self.kind) and (facts is None or facts.bits > 8 or bool(facts.unclear))

    def apply(self, levels: NDArray[Any]) -> NDArray[np.uint8]:
        """Levels (H, W) or (H, W, C) of any type as (H, W, 3) uint8; not-a-number becomes 0."""
        bands = levels[:, :, None] if levels.ndim == 2 else levels
        bands = bands[:, :, : 3 if bands.shape[2] >= 3 else 1]
        if self.kind == "bands":
            shift = 8 * (bands.dtype.itemsize - 1)
            if bands.dtype.kind != "u":
                raise ValueError(f"{bands.dtype} levels need a range")
            found = (bands >> shift).astype(np.uint8)
            return found if found.shape[2] == 3 else np.repeat(found, 3, axis=2)
        bands = bands.astype(np.float64)
        low, high = self.low, self.high
        finite = bands[np.isfinite(bands)]
        if self.kind != "range":
            if not finite.size:
                return np.zeros((*bands.shape[:2], 3), np.uint8)
            low, high = (float(v) for v in (np.percentile(finite, (CUT, 100 - CUT)) if self.kind == "percentile" else (finite.min(), finite.max())))
        scaled = (bands - low) * (255.0 / (high - low) if high > low else 0.0)
        found = np.floor(np.nan_to_num(scaled, nan=0.0, posinf=255.0, neginf=0.0).clip(0.0, 255.0) + 0.5).astype(np.uint8)
        return found if found.shape[2] == 3 else np.repeat(found, 3, axis=2)

    def decode(self, data: bytes, name: str, most: int | None = None) -> NDArray[np.uint8]:
        """The pixels of a picture file by this rule, (H, W, 3) uint8, upright. most: see `opened`. Raises `ImageError` naming the file."""
        try:
            if data[:4] in TIFF_MARKS:
                return self.apply(tiff_levels(data))
            image = opened(data, name, most)
            return upright_pixels(self.apply(np.asarray(image)), to_turn(image))
        except ImageError:
            raise
        except BROKEN as error:
            raise ImageError(f"{name}: damaged picture ({str(error) or type(error).__name__})") from None


def tiff_levels(data: bytes) -> NDArray[Any]:
    """The first page's levels, (H, W) or (H, W, C)."""
    import tifffile

    try:
        with tifffile.TiffFile(io.BytesIO(data)) as file:
            page = file.pages[0]
            levels = page.asarray()
            planes, orientation = str(page.axes), tiff_orientation(page)
    except Exception:  # a compression it does not know: Pillow may
        with Image.open(io.BytesIO(data)) as image:
            return np.asarray(image)
    if levels.ndim == 3 and planes.startswith("S"):
        levels = np.moveaxis(levels, 0, 2)
    if levels.ndim not in (2, 3):
        raise ValueError(f"pages of {levels.ndim} dimensions")
    return upright_raster(np.asarray(levels), orientation)


#: The level of pixels nothing is known about.
VOID = 255


@dataclass(frozen=True, slots=True)
class MapLevels:
    """How the numbers of a label map are read.

    kind: "" for levels as they are, "binary" (0, or 1 and 255), "numbers" (0, or the number of an object), "halves" (dark or bright),
    "gray" (as they are, in a picture of any kind) or "colors"; colors: red, green and blue of each level, from 0 on.
    """

    kind: str = ""
    colors: tuple[tuple[int, int, int], ...] = ()

    def read(self, data: bytes, name: str) -> NDArray[np.uint8]:
        """The class of every pixel, (H, W) uint8. Raises `ImageError` naming the file."""
        if self.kind in ("binary", "numbers", "halves"):
            return (levels_of(data, name) > (127 if self.kind == "halves" else 0)).astype(np.uint8)
        if self.kind == "gray":
            levels = levels_of(data, name)
            if levels.size and not 0 <= levels.min() <= levels.max() <= VOID:
                raise ImageError(f"{name}: a label map holds levels from 0 to 255, not {levels.min()} to {levels.max()}")
            return levels.astype(np.uint8)
        if self.kind == "colors":
            return self._by_color(rgb_of(data, name))
        return decode_levels(data, name)

    def unnamed(self, data: bytes, name: str, classes: int) -> list[str]:
        """Levels or colors of a file that no class is named for, in words."""
        if self.kind == "colors":
            found = np.unique(packed(rgb_of(data, name)))
            known = {r << 16 | g << 8 | b for r, g, b in self.colors}
            return [f"color #{color:06x}" for color in found.tolist() if color not in known]
        if self.kind == "binary":
            found = np.unique(levels_of(data, name))
            return [f"level {level}" for level in found.tolist() if level not in (0, 1, 255)]
        if self.kind in ("numbers", "halves"):
            return []
        return [f"level {level}" for level in np.unique(levels_of(data, name)).tolist() if classes <= level < VOID]

    def _by_color(self, pixels: NDArray[np.uint8]) -> NDArray[np.uint8]:
        wanted = np.array([r << 16 | g << 8 | b for r, g, b in self.colors], np.int64)
        order = np.argsort(wanted)
        values = packed(pixels)
        found = np.minimum(np.searchsorted(wanted[order], values), len(wanted) - 1)
        return np.where(wanted[order][found] == values, order[found], VOID).astype(np.uint8)


def packed(pixels: NDArray[np.uint8]) -> NDArray[np.int64]:
    """(H, W, 3) as one number a pixel, 0xRRGGBB."""
    wide = pixels.astype(np.int64)
    return wide[:, :, 0] << 16 | wide[:, :, 1] << 8 | wide[:, :, 2]


def is_deep(image: Image.Image) -> bool:
    """Whether a gray picture has whole levels of more than 8 bits."""
    return image.mode.startswith("I")


def levels_of(data: bytes, name: str) -> NDArray[Any]:
    """The stored numbers of a gray or indexed picture, of any depth, or the red band of a gray one that is stored as RGB."""
    image = opened(data, name)
    if is_deep(image):
        return np.asarray(image)
    if image.mode in ("P", "L", "1"):
        return decode_levels(data, name)
    return rgb_of(data, name)[:, :, 0]


def rgb_of(data: bytes, name: str) -> NDArray[np.uint8]:
    """The colors of a label map, (H, W, 3), as stored."""
    try:
        return np.array(opened(data, name).convert("RGB"))
    except BROKEN as error:
        raise ImageError(f"{name}: damaged picture ({str(error) or type(error).__name__})") from None


def levels_file(levels: NDArray[np.uint8]) -> bytes:
    """Levels as an uncompressed gray BMP: the same bytes everywhere."""
    stream = io.BytesIO()
    Image.fromarray(levels).save(stream, "BMP")
    return stream.getvalue()
