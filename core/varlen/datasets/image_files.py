"""Labels of pictures that are stored on their side, for files whose labels were drawn on the stored pixels.

Orientation is EXIF's, 1 to 8: what has to be done to the stored pixels to see them upright
(Exif 2.32, section 4.6.4 A). `size` is that of the stored picture, W × H px.
"""

from __future__ import annotations

import io
import logging
import os
import struct
import warnings
import zlib
from collections.abc import Callable
from dataclasses import asdict, dataclass, replace
from itertools import islice
from typing import Any, Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray
from PIL import ExifTags, Image
from PIL.TiffImagePlugin import TiffImageFile

from varlen.datasets.entry import Entry
from varlen.datasets.quick_codecs import decode_jpeg, encode_png
from varlen.errors import ImageError, LevelsUnclear
from varlen.model.geometry import Size
from varlen.model.objects import Mask

_POINTS: dict[int, Callable[[NDArray[np.float64], NDArray[np.float64], int, int], tuple[NDArray[np.float64], NDArray[np.float64]]]] = {
    2: lambda x, y, w, h: (w - x, y),
    3: lambda x, y, w, h: (w - x, h - y),
    4: lambda x, y, w, h: (x, h - y),
    5: lambda x, y, w, h: (y, x),
    6: lambda x, y, w, h: (h - y, x),
    7: lambda x, y, w, h: (h - y, w - x),
    8: lambda x, y, w, h: (y, w - x),
}
_RASTERS: dict[int, Callable[[NDArray[np.uint8]], NDArray[np.uint8]]] = {
    2: lambda levels: levels[:, ::-1],
    3: lambda levels: levels[::-1, ::-1],
    4: lambda levels: levels[::-1],
    5: lambda levels: levels.swapaxes(0, 1),
    6: lambda levels: levels.swapaxes(0, 1)[:, ::-1],
    7: lambda levels: levels[::-1, ::-1].swapaxes(0, 1),
    8: lambda levels: levels.swapaxes(0, 1)[::-1],
}
#: Orientations that are mirror images.
_MIRRORED = (2, 4, 5, 7)


def upright_of(size: Size, orientation: int) -> Size:
    """The size of the upright picture."""
    return Size(size.height, size.width) if orientation >= 5 else size


def upright_points(points: NDArray[np.float64], orientation: int, size: Size) -> NDArray[np.float64]:
    """Points (…, 2) of the stored picture in the upright one."""
    if orientation == 1:
        return points
    return np.stack(_POINTS[orientation](points[..., 0], points[..., 1], size.width, size.height), axis=-1)


def upright_raster(levels: NDArray[np.uint8], orientation: int) -> NDArray[np.uint8]:
    """Stored levels (H, W) or (H, W, C), upright."""
    return levels if orientation == 1 else np.ascontiguousarray(_RASTERS[orientation](levels))


def upright_entry(entry: Entry, orientation: int) -> Entry:
    """An image whose labels lie on the stored pixels, with labels that lie on the upright ones."""
    if orientation == 1:
        return entry
    objects, size = entry.objects, entry.size
    corners = upright_points(objects.boxes.reshape(-1, 2, 2), orientation, size)
    keypoints = objects.keypoints.copy()
    keypoints[..., :2] = np.where(keypoints[..., 2:] > 0, upright_points(keypoints[..., :2], orientation, size), 0.0)
    objects = objects.replace(
        boxes=np.concatenate([corners.min(axis=1), corners.max(axis=1)], axis=1),
        outlines=objects.outlines.with_points(upright_points(objects.outlines.points, orientation, size)),
        masks=tuple(mask and _upright_mask(mask, orientation, size) for mask in objects.masks),
        keypoints=keypoints,
        oriented=objects.oriented.with_corners(upright_points(objects.oriented.corners, orientation, size)),
    )
    if orientation in _MIRRORED:
        objects = objects.replace(oriented=objects.oriented.mirrored())
    return replace(entry, objects=objects, size=upright_of(size, orientation))


def _upright_mask(mask: Mask, orientation: int, size: Size) -> Mask:
    height, width = mask.pixels.shape
    frame = np.array([[mask.left, mask.top], [mask.left + width, mask.top + height]], np.float64)
    left, top = upright_points(frame, orientation, size).min(axis=0)
    return Mask(int(left), int(top), upright_raster(mask.pixels, orientation))


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
#: What Pillow calls the formats that are read.
FORMATS = ("JPEG", "PNG", "WEBP", "BMP", "TIFF")
_ORIENTATION, _TIFF_WIDTH, _TIFF_HEIGHT = 0x0112, 256, 257
_TIFF_BITS, _TIFF_BANDS, _TIFF_MORE_BANDS = 258, 277, 338
#: What sets a stored picture upright (Exif 2.32, section 4.6.4 A).
_UPRIGHT = {
    2: Image.Transpose.FLIP_LEFT_RIGHT, 3: Image.Transpose.ROTATE_180, 4: Image.Transpose.FLIP_TOP_BOTTOM, 5: Image.Transpose.TRANSPOSE,
    6: Image.Transpose.ROTATE_270, 7: Image.Transpose.TRANSVERSE, 8: Image.Transpose.ROTATE_90,
}  # fmt: skip
_EXIF_DETAILS = 0x8769
#: A decoded picture of so many pixels takes 300 MB.
MOST_PIXELS = 100_000_000
#: No picture has more, not even one that is read as windows.
LARGEST = 4_000_000_000

# What is odd in a file is said by our own findings and refusals, each once.
warnings.filterwarnings("ignore", module=r"PIL\.")
logging.getLogger("tifffile").setLevel(logging.CRITICAL)
Image.MAX_IMAGE_PIXELS = None  # our own limit is checked before decoding, with a clearer message


def opened(data: bytes, name: str, most: int | None = None) -> Image.Image:
    """A picture file whose header was read. most: pixels, `MOST_PIXELS` where nothing is said. Raises `ImageError` naming it."""
    try:
        image = Image.open(io.BytesIO(data), formats=FORMATS)
    except BROKEN:
        if data[:4] in TIFF_MARKS:
            raise LevelsUnclear(f"{name}: {describe_tiff(data)}; {RULE_WANTED}") from None
        raise ImageError(f"{name}: not a JPEG, PNG, WebP, BMP or TIFF picture") from None
    check_claim(name, image.size, most)
    return image


#: What Pillow raises on files that are not what they say.
BROKEN = (ArithmeticError, AssertionError, AttributeError, EOFError, Image.DecompressionBombError, LookupError, MemoryError, NotImplementedError,
          OSError, RuntimeError, SyntaxError, TypeError, ValueError, struct.error, zlib.error)  # fmt: skip
TIFF_MARKS = (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")
RULE_WANTED = "what is black and what is white has to be said: --levels low..high, min-max, percentile, or bands for unsigned levels as they are"


def describe_tiff(data: bytes) -> str:
    """What a TIFF holds that Pillow does not read, in words."""
    import tifffile

    try:
        with tifffile.TiffFile(io.BytesIO(data)) as file:
            page = file.pages[0]
            said = f"{page.dtype} levels in {page.samplesperpixel} bands"  # type: ignore[union-attr]
            return said if len(file.pages) == 1 else f"{len(file.pages)} pages of {said}"
    except Exception as error:  # whatever a damaged file brings about in it
        return f"a TIFF that can't be read ({str(error)[:80] or type(error).__name__})"


def unclear(image: Image.Image) -> str:
    """Why a picture's levels have no plain meaning in 8 bits, "" where they have: its type, in words."""
    try:
        pages = getattr(image, "n_frames", 1) if image.format in ("TIFF", "WEBP", "PNG") else 1
    except BROKEN:  # what follows the first page is damaged
        pages = 1
    if pages > 1:
        return f"{pages} pages"
    if isinstance(image, TiffImageFile) and image.mode == "RGB" and image.tag_v2.get(_TIFF_MORE_BANDS):
        return f"{image.tag_v2[_TIFF_BANDS]} bands"
    if image.mode == "F":
        return "float levels"
    if image.mode == "I" or (image.mode.startswith("I;") and not image.mode.startswith("I;16")) or image.mode.endswith("S"):
        return "signed or 32-bit levels"
    return ""


def _refuse_unclear(image: Image.Image, name: str) -> None:
    why = unclear(image)
    if why.endswith("bands"):
        raise LevelsUnclear(f"{name}: {why}, of which three are shown; with --levels bands the first three are read as red, green and blue")
    if why and why[0].isdigit():
        raise LevelsUnclear(f"{name}: {why}, of which one is wanted; with --levels (low..high, min-max or percentile) the first is read")
    if why:
        levels = np.asarray(image)
        found = f"from {np.nanmin(levels):g} to {np.nanmax(levels):g}" if levels.size and not np.isnan(levels).all() else "without a number"
        raise LevelsUnclear(f"{name}: {why} {found}; {RULE_WANTED}")


def check_claim(name: str, size: tuple[int, int], most: int | None = None) -> None:
    """Raises `ImageError` for a picture of more than `most` pixels, `MOST_PIXELS` where nothing is said; the message says what can be done."""
    most = most or MOST_PIXELS
    if size[0] * size[1] > most:
        ways = {MOST_PIXELS: "; read it as windows, with --tile", LARGEST: ""}
        way = ways.get(most, "; which is what this machine's memory allows")
        raise ImageError(f"{name}: claims {size[0]}×{size[1]} px, more than {most // 1_000_000} million pixels{way}")


def most_in_memory() -> int:
    """How many pixels a picture may have that is decoded whole for its windows: a third of the free memory holds it."""
    free = os.sysconf("SC_AVPHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")
    return max(free // 9, MOST_PIXELS + 1)  # three bands


@dataclass(frozen=True, slots=True)
class ImageHeader:
    """What a picture file's header says. width, height: as stored, px; orientation: EXIF's, 1 to 8; bits: of a channel; unclear: see `unclear`."""

    format: str
    mode: str
    width: int
    height: int
    orientation: int
    bits: int
    bytes: int
    unclear: str = ""

    @property
    def upright(self) -> Size:
        """Width and height as the picture is to be seen."""
        return upright_of(Size(self.width, self.height), self.orientation)

    def to_json(self) -> dict[str, str | int]:
        """As plain values."""
        return {name: value for name, value in asdict(self).items() if name != "unclear"}


def read_header(data: bytes, name: str, most: int | None = None) -> ImageHeader | None:
    """What the header says; None where it can't be read. Raises `ImageError` when it claims more pixels than `most` (see `opened`)."""
    try:
        image = Image.open(io.BytesIO(data), formats=FORMATS)
    except BROKEN:
        return None
    check_claim(name, image.size, most)
    orientation = orientation_of(image)
    size = stored_size(image)
    return ImageHeader(str(image.format), image.mode, size.width, size.height, orientation, bits_of(image), len(data), unclear(image))


def bits_of(image: Image.Image) -> int:
    """The bits of a channel as stored."""
    if isinstance(image, TiffImageFile) and image.mode == "RGB":  # which Pillow says of color of any depth
        return int(max(image.tag_v2.get(_TIFF_BITS, (8,))))
    return 1 if image.mode == "1" else 16 if image.mode.startswith("I") else 32 if image.mode == "F" else 8


def orientation_of(image: Image.Image) -> int:
    """EXIF's orientation, 1 to 8; 1 where it is missing, damaged or no such number."""
    try:
        found = int(image.getexif().get(_ORIENTATION, 1))
    except BROKEN:
        return 1
    return found if 1 <= found <= 8 else 1


def to_turn(image: Image.Image) -> int:
    """The orientation that decoded pixels still have: Pillow turns a TIFF by itself, and no other kind."""
    return 1 if image.format == "TIFF" else orientation_of(image)


def stored_size(image: Image.Image) -> Size:
    """Width and height before any orientation; Pillow says those of a TIFF turned or not, as its version goes."""
    if isinstance(image, TiffImageFile):
        return Size(int(image.tag_v2[_TIFF_WIDTH]), int(image.tag_v2[_TIFF_HEIGHT]))
    return Size(image.width, image.height)


def readable_exif(data: bytes) -> list[dict[str, str]]:
    """The EXIF tags that people can read, by name; at most 60, each at most 80 characters long."""
    try:
        tags = Image.open(io.BytesIO(data), formats=FORMATS).getexif()
        found = {**tags, **tags.get_ifd(_EXIF_DETAILS)}
    except BROKEN:
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
    try:
        image = opened(data, name, LARGEST)
    except LevelsUnclear:
        return _tiff_size(data, name)
    return upright_of(stored_size(image), orientation_of(image))


def _tiff_size(data: bytes, name: str) -> Size:
    """The size of a TIFF that Pillow does not read; its pixels need a rule (see `level_rules`)."""
    import tifffile

    try:
        with tifffile.TiffFile(io.BytesIO(data)) as file:
            page = file.pages[0]
            size = upright_of(Size(int(page.imagewidth), int(page.imagelength)), tiff_orientation(page))  # type: ignore[union-attr]
    except Exception:
        raise ImageError(f"{name}: {describe_tiff(data)}") from None
    if min(size) < 1:
        raise ImageError(f"{name}: claims {size.width}×{size.height} px")
    check_claim(name, size, LARGEST)
    return size


def tiff_orientation(page: Any) -> int:
    """The orientation a TIFF's page says, 1 to 8; 1 where it says none."""
    tag = page.tags.get("Orientation")
    found = int(tag.value) if tag is not None and isinstance(tag.value, int) else 1
    return found if 1 <= found <= 8 else 1


def is_upright(data: bytes, name: str) -> bool:
    """Whether a picture file's pixels lie as they are to be seen, with no EXIF orientation."""
    return orientation_of(opened(data, name)) == 1


def decode(data: bytes, name: str, most: int | None = None) -> NDArray[np.uint8]:
    """Pixels of a picture file. most: see `opened`. Raises `ImageError` naming the file when it is damaged."""
    image = opened(data, name, most)
    try:
        _refuse_unclear(image, name)
        orientation = to_turn(image)
        if (pixels := decode_jpeg(data, image)) is not None:
            return np.ascontiguousarray(upright_pixels(pixels, orientation))
        if orientation != 1:
            image = image.transpose(_UPRIGHT[orientation])
        if image.mode.startswith("I;16") or image.mode == "I":
            gray = (np.asarray(image).astype(np.uint32) >> 8).clip(0, 255).astype(np.uint8)
            return np.repeat(gray[:, :, None], 3, axis=2)
        return np.array(image if image.mode == "RGB" else image.convert("RGB"))
    except BROKEN as error:
        raise ImageError(f"{name}: damaged picture ({str(error) or type(error).__name__})") from None


def upright_pixels(pixels: NDArray[np.uint8], orientation: int) -> NDArray[np.uint8]:
    """Stored pixels (H, W, C), upright."""
    return pixels if orientation == 1 else np.asarray(Image.fromarray(pixels).transpose(_UPRIGHT[orientation]))


def decode_levels(data: bytes, name: str) -> NDArray[np.uint8]:
    """The stored numbers of an indexed or gray picture, (H, W) uint8: a label map. Raises `ImageError` naming the file."""
    image = opened(data, name)
    if image.mode not in ("P", "L", "1"):
        raise ImageError(f"{name}: a label map must be indexed or gray, not {image.mode}")
    try:
        return np.array(image, np.uint8)
    except BROKEN as error:
        raise ImageError(f"{name}: damaged picture ({str(error) or type(error).__name__})") from None


def encode(pixels: NDArray[np.uint8], kind: ImageType, quality: int = 90) -> bytes:
    """A picture file with (H, W, 3) or (H, W, 1) pixels: JPEG and WebP at `quality` 1-100, PNG without loss."""
    if kind == "png":
        return encode_png(pixels)
    buffer = io.BytesIO()
    image = Image.fromarray(pixels[:, :, 0] if pixels.shape[2] == 1 else pixels)
    if kind == "jpeg":
        image.save(buffer, "JPEG", quality=quality)
    else:
        image.save(buffer, "WEBP", quality=quality, method=2)
    return buffer.getvalue()
