"""How the files of label maps are read where their levels are not simply numbers of classes.

`binary`: 0 is background, all else (255 in a gray picture, 1 in one of a bit) is one class. `colors`: every color of an RGB
picture stands for a class; a color that no table names is unknown.
"""

from __future__ import annotations

import io
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from varlen.datasets.image_files import BROKEN, decode_levels, opened
from varlen.errors import ImageError

#: The level of pixels nothing is known about.
VOID = 255


@dataclass(frozen=True, slots=True)
class MapLevels:
    """kind: "" for levels as they are, "binary" or "colors"; colors: red, green and blue of each level, from 0 on."""

    kind: str = ""
    colors: tuple[tuple[int, int, int], ...] = ()

    def read(self, data: bytes, name: str) -> NDArray[np.uint8]:
        """The class of every pixel, (H, W) uint8. Raises `ImageError` naming the file."""
        if self.kind == "binary":
            return (levels_of(data, name) > 0).astype(np.uint8)
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
        return [f"level {level}" for level in np.unique(decode_levels(data, name)).tolist() if classes <= level < VOID]

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


def levels_of(data: bytes, name: str) -> NDArray[np.uint8]:
    """The stored numbers of a gray or indexed picture, or the red band of a gray one that is stored as RGB."""
    image = opened(data, name)
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
