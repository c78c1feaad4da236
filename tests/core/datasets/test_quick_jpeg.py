"""The quicker decoder gives the pixels that Pillow gives, over a corpus of odd files; what it does not understand is left to Pillow."""

from __future__ import annotations

import io
from itertools import product
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image
from varlen.datasets.image_files import decode
from varlen.errors import ImageError

SIZES = [(1, 1), (2, 1), (1, 3), (7, 9), (8, 8), (16, 16), (17, 15), (33, 40), (64, 48), (101, 7)]
WAYS: dict[str, dict[str, Any]] = {
    "plain": {},
    "full color": {"subsampling": "4:4:4"},
    "4:2:2": {"subsampling": "4:2:2"},
    "4:1:1": {"subsampling": "4:1:1"},
    "progressive": {"progressive": True},
    "progressive, full color": {"progressive": True, "subsampling": "4:4:4"},
    "optimized": {"optimize": True},
    "restart marks": {"restart_marker_blocks": 2},
    "comment": {"comment": b"a lamp"},
    "profile": {"icc_profile": b"\0" * 200},
    "kept as red, green, blue": {"keep_rgb": True},
    "density": {"dpi": (300, 72)},
}


def noisy(width: int, height: int, seed: int = 0) -> np.ndarray[Any, np.dtype[np.uint8]]:
    """Smooth color with noise and saturated corners."""
    rng = np.random.default_rng(seed)
    x, y = np.meshgrid(np.linspace(0, 255, width), np.linspace(0, 255, height))
    picture = np.stack([x, y, 255 - x], axis=2) + rng.normal(0, 25, (height, width, 3))
    picture[: max(height // 4, 1), : max(width // 4, 1)] = (255, 0, 255)
    return picture.clip(0, 255).astype(np.uint8)


def saved(pixels: Any, **options: Any) -> bytes:
    buffer = io.BytesIO()
    (pixels if isinstance(pixels, Image.Image) else Image.fromarray(pixels)).save(buffer, "JPEG", **options)
    return buffer.getvalue()


def plainly(data: bytes) -> np.ndarray[Any, np.dtype[np.uint8]]:
    """What Pillow alone makes of it."""
    return np.array(Image.open(io.BytesIO(data)).convert("RGB"))


@pytest.mark.parametrize("way", WAYS.values(), ids=WAYS)
def test_decoding_gives_pillow_s_pixels(way: dict[str, Any]) -> None:
    for (width, height), quality in product(SIZES, (1, 30, 75, 90, 100)):
        data = saved(noisy(width, height, quality), quality=quality, **way)
        assert np.array_equal(decode(data, "a.jpg"), plainly(data)), (width, height, quality)


@pytest.mark.parametrize("mode", ["L", "CMYK"])
def test_other_colors_are_pillow_s(mode: str) -> None:
    data = saved(Image.fromarray(noisy(40, 30)).convert(mode), quality=80)
    assert np.array_equal(decode(data, "a.jpg"), plainly(data))


@pytest.mark.parametrize("turned", range(1, 9))
def test_turned_pictures_are_set_upright(turned: int) -> None:
    exif = Image.Exif()
    exif[0x0112] = turned
    data = saved(noisy(40, 30), exif=exif)
    from PIL import ImageOps

    assert np.array_equal(decode(data, "a.jpg"), np.array(ImageOps.exif_transpose(Image.open(io.BytesIO(data)))))


@given(st.data())
@settings(max_examples=150)
def test_damage_ends_as_with_pillow_alone(data: st.DataObject) -> None:
    """Either the pixels that Pillow gives, or the error it ends in; nothing that only one of them makes of it."""
    whole = bytearray(saved(noisy(48, 40, 1), quality=85, progressive=data.draw(st.booleans())))
    for _ in range(data.draw(st.integers(1, 3))):
        whole[data.draw(st.integers(2, len(whole) - 1))] = data.draw(st.integers(0, 255))
    damaged = bytes(whole[: data.draw(st.integers(len(whole) // 3, len(whole)))]) + data.draw(st.sampled_from([b"", b"\0" * 30, b"\xff\xd9"]))
    try:
        expected = plainly(damaged)
    except Exception:
        expected = None
    try:
        found = decode(damaged, "a.jpg")
    except ImageError:
        found = None
    assert (found is None) == (expected is None)
    if found is not None and expected is not None:
        assert np.array_equal(found, expected)
