"""Picture files of every kind by the stated rules, and damaged ones by name."""

from __future__ import annotations

import io
import struct
import zlib

import numpy as np
import pytest
from PIL import Image
from varlen.datasets.image_files import decode, encode, readable_exif, upright_size
from varlen.errors import ImageError
from varlen.model.geometry import Size

GRADIENT = np.stack(np.broadcast_arrays(np.arange(40)[None, :] * 6, np.arange(30)[:, None] * 8, 90), -1).astype(np.uint8)


def saved(image: Image.Image, kind: str, **options: object) -> bytes:
    buffer = io.BytesIO()
    image.save(buffer, kind, **options)
    return buffer.getvalue()


@pytest.mark.parametrize("kind", ["png", "bmp", "tiff"])
def test_pictures_without_loss_come_back_as_they_were(kind: str) -> None:
    assert np.array_equal(decode(saved(Image.fromarray(GRADIENT), kind), "a"), GRADIENT)


@pytest.mark.parametrize(("kind", "within"), [("png", 0), ("jpeg", 3), ("webp", 4)])
def test_what_is_written_is_read(kind: str, within: int) -> None:
    back = decode(encode(GRADIENT, kind, 95), "a")  # type: ignore[arg-type]
    assert np.abs(back.astype(int) - GRADIENT).mean() <= within


def test_sixteen_bits_are_divided_by_256() -> None:
    levels = (np.arange(1200, dtype=np.uint16) * 54).reshape(30, 40)
    pixels = decode(saved(Image.fromarray(levels), "png"), "a")
    assert np.array_equal(pixels, np.repeat((levels >> 8).astype(np.uint8)[:, :, None], 3, axis=2))


@pytest.mark.parametrize("mode", ["L", "P", "RGBA", "CMYK", "1", "LA"])
def test_every_mode_becomes_rgb(mode: str) -> None:
    image = Image.fromarray(GRADIENT).convert(mode)
    pixels = decode(saved(image, "tiff" if mode == "CMYK" else "png"), "a")
    assert pixels.shape == (30, 40, 3)
    assert np.abs(pixels.astype(int) - np.asarray(image.convert("RGB"))).max() <= 1


def test_exif_that_people_can_read() -> None:
    exif = Image.Exif()
    exif[0x010F] = "Moth lamp" + "!" * 200  # the maker
    exif[0x0112] = 6
    exif.get_ifd(0x8769).update({0x829A: 0.25, 0x927C: b"of the maker's own"})  # exposure time
    found = {each["name"]: each["value"] for each in readable_exif(saved(Image.fromarray(GRADIENT), "jpeg", exif=exif))}
    assert found == {"Make": ("Moth lamp" + "!" * 200)[:80], "Orientation": "6", "ExposureTime": "0.25"}
    assert readable_exif(b"no picture") == []
    assert readable_exif(saved(Image.fromarray(GRADIENT), "png")) == []


@pytest.mark.parametrize("orientation", range(1, 9))
def test_orientation_is_applied_once(orientation: int) -> None:
    exif = Image.Exif()
    exif[0x0112] = orientation
    data = saved(Image.fromarray(GRADIENT), "png", exif=exif)
    expected = {
        1: GRADIENT, 2: GRADIENT[:, ::-1], 3: GRADIENT[::-1, ::-1], 4: GRADIENT[::-1], 5: GRADIENT.transpose(1, 0, 2),
        6: np.rot90(GRADIENT, -1), 7: GRADIENT[::-1, ::-1].transpose(1, 0, 2), 8: np.rot90(GRADIENT),
    }[orientation]  # fmt: skip
    assert np.array_equal(decode(data, "a"), expected)
    assert upright_size(data, "a") == Size(expected.shape[1], expected.shape[0])


@pytest.mark.parametrize("kind", ["png", "jpeg", "webp"])
def test_cut_short_at_any_place_a_picture_is_refused_by_name(kind: str) -> None:
    data = encode(np.random.default_rng(0).integers(0, 256, (60, 80, 3)).astype(np.uint8), kind, 90)  # type: ignore[arg-type]
    for length in range(0, len(data) - 40, max(1, len(data) // 23)):
        with pytest.raises(ImageError, match=r"^night\.jpg: "):
            decode(data[:length], "night.jpg")


def test_a_picture_that_claims_to_be_huge_is_refused_before_it_is_decoded() -> None:
    header = struct.pack(">IIBBBBB", 60_000, 60_000, 8, 2, 0, 0, 0)

    def chunk(name: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + name + data + struct.pack(">I", zlib.crc32(name + data))

    data = b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", header) + chunk(b"IDAT", zlib.compress(b"\0" * 1000)) + chunk(b"IEND", b"")
    with pytest.raises(ImageError, match="claims 60000×60000 px"):
        decode(data, "a.png")


@pytest.mark.parametrize("data", [b"", b"hello", b"GIF89a" + b"\0" * 50, b"%PDF-1.4"])
def test_what_is_no_picture_is_refused(data: bytes) -> None:
    with pytest.raises(ImageError, match="not a JPEG, PNG, WebP, BMP or TIFF picture"):
        decode(data, "a.jpg")
