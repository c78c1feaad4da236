"""Between picture files and pixels. Pillow does the coding; this states the rules.

Decoding gives (H, W, 3) uint8 RGB, upright: EXIF orientation is applied once, here. 16-bit
levels are divided by 256; palettes, CMYK and gray become RGB; transparency is dropped.
"""

from __future__ import annotations

import io
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageOps

from varlen.errors import ImageError
from varlen.geometry import Size

ImageType = Literal["jpeg", "png", "webp"]
SUFFIX: dict[str, str] = {"jpeg": ".jpg", "png": ".png", "webp": ".webp"}
READABLE = (".jpg", ".jpeg", ".png", ".webp", ".bmp", ".tif", ".tiff")
_ORIENTATION = 0x0112
MOST_PIXELS = 400_000_000

Image.MAX_IMAGE_PIXELS = None  # our own limit is checked before decoding, with a clearer message


def _opened(data: bytes, name: str) -> Image.Image:
    try:
        image = Image.open(io.BytesIO(data), formats=("JPEG", "PNG", "WEBP", "BMP", "TIFF"))
    except (OSError, ValueError, SyntaxError):
        raise ImageError(f"{name}: not a JPEG, PNG, WebP, BMP or TIFF picture") from None
    if image.width * image.height > MOST_PIXELS:
        raise ImageError(f"{name}: claims {image.width}×{image.height} px, more than {MOST_PIXELS // 1_000_000} million pixels")
    return image


def upright_size(data: bytes, name: str) -> Size:
    """Width and height after EXIF orientation, from the header alone."""
    image = _opened(data, name)
    turned = image.getexif().get(_ORIENTATION, 1) >= 5
    return Size(image.height, image.width) if turned else Size(image.width, image.height)


def decode(data: bytes, name: str) -> NDArray[np.uint8]:
    """Pixels of a picture file. Raises `ImageError` naming the file when it is damaged."""
    image = _opened(data, name)
    try:
        if image.getexif().get(_ORIENTATION, 1) != 1:
            image = ImageOps.exif_transpose(image)
        if image.mode.startswith("I;16") or image.mode == "I":
            gray = (np.asarray(image).astype(np.uint32) >> 8).clip(0, 255).astype(np.uint8)
            return np.repeat(gray[:, :, None], 3, axis=2)
        return np.array(image if image.mode == "RGB" else image.convert("RGB"))
    except (OSError, ValueError, SyntaxError, MemoryError) as error:
        raise ImageError(f"{name}: damaged picture ({str(error) or type(error).__name__})") from None


def encode(pixels: NDArray[np.uint8], kind: ImageType, quality: int = 90) -> bytes:
    """A picture file with the pixels: JPEG and WebP at `quality` 1-100, PNG without loss."""
    buffer = io.BytesIO()
    image = Image.fromarray(pixels)
    match kind:
        case "jpeg":
            image.save(buffer, "JPEG", quality=quality)
        case "png":
            image.save(buffer, "PNG", compress_level=1)
        case "webp":
            image.save(buffer, "WEBP", quality=quality, method=2)
    return buffer.getvalue()
