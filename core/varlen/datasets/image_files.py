"""Between picture files and pixels. Pillow does the coding; this states the rules.

Decoding gives (H, W, 3) uint8 RGB, upright: EXIF orientation is applied once, here. 16-bit
levels are divided by 256; palettes, CMYK and gray become RGB; transparency is dropped.
"""

from __future__ import annotations

import io
from dataclasses import asdict, dataclass
from itertools import islice
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray
from PIL import ExifTags, Image, ImageOps

from varlen.errors import ImageError
from varlen.model.geometry import Size

ImageType = Literal["jpeg", "png", "webp"]


class ImageTypeFacts(NamedTuple):
    """A way to code a picture. lossy: it has a quality from 1 to 100."""

    name: ImageType
    title: str
    suffix: str
    lossy: bool


IMAGE_TYPES = (
    ImageTypeFacts("jpeg", "JPEG", ".jpg", True),
    ImageTypeFacts("png", "PNG", ".png", False),
    ImageTypeFacts("webp", "WebP", ".webp", True),
)
SUFFIX: dict[str, str] = {each.name: each.suffix for each in IMAGE_TYPES}
READABLE = (".jpg", ".jpeg", ".png", ".webp", ".bmp", ".tif", ".tiff")
_FORMATS = ("JPEG", "PNG", "WEBP", "BMP", "TIFF")
_ORIENTATION = 0x0112
_EXIF_DETAILS = 0x8769
MOST_PIXELS = 400_000_000

Image.MAX_IMAGE_PIXELS = None  # our own limit is checked before decoding, with a clearer message


def _opened(data: bytes, name: str) -> Image.Image:
    try:
        image = Image.open(io.BytesIO(data), formats=_FORMATS)
    except (OSError, ValueError, SyntaxError):
        raise ImageError(f"{name}: not a JPEG, PNG, WebP, BMP or TIFF picture") from None
    _check_claim(image, name)
    return image


def _check_claim(image: Image.Image, name: str) -> None:
    if image.width * image.height > MOST_PIXELS:
        raise ImageError(f"{name}: claims {image.width}×{image.height} px, more than {MOST_PIXELS // 1_000_000} million pixels")


@dataclass(frozen=True, slots=True)
class ImageHeader:
    """What a picture file's header says. width, height: as stored, px; orientation: EXIF's, 1 to 8; bits: of a channel."""

    format: str
    mode: str
    width: int
    height: int
    orientation: int
    bits: int
    bytes: int

    @property
    def upright(self) -> Size:
        """Width and height as the picture is to be seen."""
        return Size(self.height, self.width) if self.orientation >= 5 else Size(self.width, self.height)

    def to_json(self) -> dict[str, str | int]:
        """As plain values."""
        return asdict(self)


def read_header(data: bytes, name: str) -> ImageHeader | None:
    """What the header says; None where it can't be read. Raises `ImageError` when it claims too much."""
    try:
        image = Image.open(io.BytesIO(data), formats=_FORMATS)
    except (OSError, ValueError, SyntaxError):
        return None
    _check_claim(image, name)
    orientation = int(image.getexif().get(_ORIENTATION, 1))
    bits = 1 if image.mode == "1" else 16 if image.mode.startswith("I") else 32 if image.mode == "F" else 8
    return ImageHeader(str(image.format), image.mode, image.width, image.height, orientation if 1 <= orientation <= 8 else 1, bits, len(data))


def readable_exif(data: bytes) -> list[dict[str, str]]:
    """The EXIF tags that people can read, by name; at most 60, each at most 80 characters long."""
    try:
        tags = Image.open(io.BytesIO(data), formats=_FORMATS).getexif()
        found = {**tags, **tags.get_ifd(_EXIF_DETAILS)}
    except (OSError, ValueError, SyntaxError):
        return []
    named = ((ExifTags.TAGS[tag], value) for tag, value in found.items() if tag in ExifTags.TAGS and not isinstance(value, bytes))
    return [{"name": name, "value": str(value)[:80]} for name, value in islice(named, 60) if name not in ("ExifOffset", "MakerNote")]


def has_end_marker(data: bytes, facts: ImageHeader) -> bool:
    """Whether a JPEG or PNG has its end mark; quick, so a picture without one is to be decoded before it is called damaged."""
    if facts.format == "JPEG":
        return data.rfind(b"\xff\xd9", -65536) >= 0
    return facts.format != "PNG" or b"IEND" in data[-64:]


def upright_size(data: bytes, name: str) -> Size:
    """Width and height after EXIF orientation, from the header alone."""
    image = _opened(data, name)
    turned = image.getexif().get(_ORIENTATION, 1) >= 5
    return Size(image.height, image.width) if turned else Size(image.width, image.height)


def is_upright(data: bytes, name: str) -> bool:
    """Whether a picture file's pixels lie as they are to be seen, with no EXIF orientation."""
    return int(_opened(data, name).getexif().get(_ORIENTATION, 1)) == 1


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


def decode_levels(data: bytes, name: str) -> NDArray[np.uint8]:
    """The stored numbers of an indexed or gray picture, (H, W) uint8: a label map. Raises `ImageError` naming the file."""
    image = _opened(data, name)
    if image.mode not in ("P", "L", "1"):
        raise ImageError(f"{name}: a label map must be indexed or gray, not {image.mode}")
    try:
        return np.array(image, np.uint8)
    except (OSError, ValueError, SyntaxError, MemoryError) as error:
        raise ImageError(f"{name}: damaged picture ({str(error) or type(error).__name__})") from None


def encode(pixels: NDArray[np.uint8], kind: ImageType, quality: int = 90) -> bytes:
    """A picture file with (H, W, 3) or (H, W, 1) pixels: JPEG and WebP at `quality` 1-100, PNG without loss."""
    buffer = io.BytesIO()
    image = Image.fromarray(pixels[:, :, 0] if pixels.shape[2] == 1 else pixels)
    match kind:
        case "jpeg":
            image.save(buffer, "JPEG", quality=quality)
        case "png":
            image.save(buffer, "PNG", compress_level=1)
        case "webp":
            image.save(buffer, "WEBP", quality=quality, method=2)
    return buffer.getvalue()
