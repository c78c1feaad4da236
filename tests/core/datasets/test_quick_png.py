"""PNG written quickly holds the very pixels, for every decoder."""

from __future__ import annotations

import io

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image
from varlen.datasets.dataset import Dataset
from varlen.datasets.quick_codecs import encode_png


@settings(max_examples=60)
@given(st.integers(1, 70), st.integers(1, 70), st.sampled_from([1, 3]), st.sampled_from(["noise", "flat", "ramp"]), st.integers(0, 99))
def test_another_decoder_finds_the_same_pixels(height: int, width: int, channels: int, kind: str, seed: int) -> None:
    rng = np.random.default_rng(seed)
    pixels = rng.integers(0, 256, (height, width, channels)).astype(np.uint8)
    if kind == "flat":
        pixels[:] = pixels[0, 0]
    elif kind == "ramp":
        pixels = (np.arange(pixels.size) % 256).astype(np.uint8).reshape(pixels.shape)
    # A view of every other row, as pixels often are.
    for each in (pixels, pixels[::2]):
        data = encode_png(each)
        with Image.open(io.BytesIO(data)) as image:
            image.verify()  # the check sums
        found = np.asarray(Image.open(io.BytesIO(data)))
        np.testing.assert_array_equal(found.reshape(each.shape), each)


def test_photographs_take_no_more_room_than_before(survey: Dataset) -> None:
    for key in list(survey.entries)[:3]:
        pixels, usual = survey.pixels(key), io.BytesIO()
        Image.fromarray(pixels).save(usual, "PNG", compress_level=1)
        assert len(encode_png(pixels)) <= len(usual.getvalue())


def test_other_pixels_are_no_picture() -> None:
    with pytest.raises(KeyError):
        encode_png(np.zeros((4, 4, 2), np.uint8))
