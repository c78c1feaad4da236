"""Kernels against SciPy and plain float formulas; bytes on other processors."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import ndimage
from varlen.kernels.blur import gaussian
from varlen.kernels.jit import kernel
from varlen.kernels.label_transforms import exposed_share
from varlen.kernels.packed_pixels import blend2x2
from varlen.kernels.pixel_digest import pixel_digest
from varlen.kernels.recolor import recolor
from varlen.kernels.resample import halved, shrunk
from varlen.kernels.warp_affine import warp
from varlen.kernels.warp_masks import warp_mask
from varlen.model.effects import Recolor
from varlen.model.geometry import Matrix, Size, about, rotation, scaling
from varlen.steps import CATALOGUE

from tests.conftest import PROJECT

SCIPY_MODES = {"extend": "nearest", "mirror": "reflect", "wrap": "grid-wrap"}


@kernel
def _blended(top, bottom, across, down):  # type: ignore[no-untyped-def]
    return blend2x2(top, bottom, across, down)


def cloth(width: int, height: int, seed: int = 0) -> np.ndarray:
    noise = ndimage.gaussian_filter(np.random.default_rng(seed).standard_normal((height, width, 3)), (1.5, 1.5, 0))
    return np.clip(noise / noise.std() * 55 + 128, 0, 255).astype(np.uint8)


def reference(picture: np.ndarray, inverse: Matrix, size: tuple[int, int], mode: str) -> np.ndarray:
    matrix = np.array([[inverse.e, inverse.d], [inverse.b, inverse.a]])
    offset = [inverse.f + (inverse.d + inverse.e - 1) / 2, inverse.c + (inverse.a + inverse.b - 1) / 2]
    channels = [
        ndimage.affine_transform(picture[..., n].astype(np.float64), matrix, offset, (size[1], size[0]), order=1, mode=mode, cval=0) for n in range(3)
    ]
    return np.stack(channels, -1)


@settings(max_examples=25)
@given(st.floats(-180, 180), st.floats(0.85, 3), st.sampled_from(sorted(SCIPY_MODES)), st.integers(3, 70), st.integers(3, 70), st.integers(1, 90))
def test_warp_is_bilinear_interpolation(degrees: float, factor: float, edges: str, width: int, height: int, out_width: int) -> None:
    picture = cloth(width, height)
    inverse = about(rotation(degrees).then(scaling(factor, factor)), (width / 2, height / 2), (out_width / 2, 20)).inverse()
    out = np.empty((40, out_width, 3), np.uint8)
    warp(picture, inverse, out, (0, 0, out_width, 40), edges, (0, 0, 0))
    assert np.abs(reference(picture, inverse, (out_width, 40), SCIPY_MODES[edges]) - out).max() <= 2.0  # weights in 1/256


LEVELS = st.lists(st.integers(0, 255), min_size=12, max_size=12)


@given(LEVELS, st.integers(0, 256), st.integers(0, 256))
def test_four_neighbours_are_weighed_exactly(levels: list[int], across: int, down: int) -> None:
    """In whole numbers, rounded once at the end; the corners themselves come out as they are."""
    corners = np.array(levels, np.int64).reshape(2, 2, 3)
    expected = (np.einsum("ijc,i,j->c", corners, [256 - down, down], [256 - across, across]) + 32768) >> 16
    upper, lower = (int.from_bytes(bytes(row.ravel().tolist()) + b"\xff\xff", "little") for row in corners)
    found = int(_blended(np.uint64(upper), np.uint64(lower), np.uint32(across), np.uint32(down)))
    assert list(found.to_bytes(4, "little")[:3]) == expected.tolist()


@pytest.mark.parametrize("degrees", [0, 7, 45, 133, -90])
def test_solid_edges_fill_exactly_what_the_picture_does_not_reach(degrees: float) -> None:
    picture = np.full((60, 90, 3), 200, np.uint8)
    matrix = about(rotation(degrees).then(scaling(0.8, 0.8)), (45, 30))
    out = np.empty((60, 90, 3), np.uint8)
    warp(picture, matrix.inverse(), out, (0, 0, 90, 60), "solid", (10, 20, 30))
    filled = (out == (10, 20, 30)).all(axis=2)
    assert ((out == 200).all(axis=2) | filled).all()
    assert filled.mean() == pytest.approx(exposed_share(matrix, Size(90, 60), (0, 0, 90, 60)), abs=0.01)


def test_views_are_taken_like_copies() -> None:
    turned = cloth(40, 30)[::-1, ::-1]
    copy = turned.copy()
    inverse = rotation(3).inverse()
    outs = [np.empty((30, 40, 3), np.uint8) for _ in range(2)]
    for picture, out in zip((turned, copy), outs, strict=True):
        warp(picture, inverse, out, (0, 0, 40, 30), "mirror", (0, 0, 0))
    assert np.array_equal(*outs)
    assert np.array_equal(shrunk(turned, 17, 13), shrunk(copy, 17, 13))
    assert np.array_equal(halved(turned), halved(copy))
    assert np.array_equal(gaussian(turned, 1.2), gaussian(copy, 1.2))
    assert np.abs(halved(copy).astype(float) - copy.reshape(15, 2, 20, 2, 3).mean((1, 3))).max() <= 0.5


def test_a_window_is_all_that_is_written() -> None:
    out = np.full((50, 60, 3), 7, np.uint8)
    warp(cloth(60, 50), rotation(3).inverse(), out, (10, 5, 41, 33), "mirror", (0, 0, 0))
    out[5:33, 10:41] = 7
    assert (out == 7).all()


@pytest.mark.parametrize("edges", ["extend", "mirror", "wrap", "solid"])
@pytest.mark.parametrize("size", [(1, 1), (2, 1), (1, 3), (2, 2)])
def test_tiny_pictures(edges: str, size: tuple[int, int]) -> None:
    picture = np.full((size[1], size[0], 3), 90, np.uint8)
    out = np.empty((9, 9, 3), np.uint8)
    warp(picture, about(rotation(30), (size[0] / 2, size[1] / 2), (4.5, 4.5)).inverse(), out, (0, 0, 9, 9), edges, (90, 90, 90))
    assert (out == 90).all()
    assert (shrunk(picture, 3, 2) == 90).all()
    assert (gaussian(picture, 2.0) == 90).all()


@settings(max_examples=20)
@given(st.integers(1, 90), st.integers(1, 90), st.integers(1, 90), st.integers(1, 90))
def test_resizing_weighs_pixels_by_a_triangle(width: int, height: int, out_width: int, out_height: int) -> None:
    picture = cloth(width, height)

    def weights(length: int, count: int) -> np.ndarray:
        factor = count / length
        reach = max(1.0, 1.0 / factor)
        distance = np.abs(((np.arange(count) + 0.5) / factor - 0.5)[:, None] - np.arange(length))
        raw = np.maximum(1 - distance / reach, 0)
        return raw / raw.sum(axis=1, keepdims=True)

    expected = np.einsum("ih,jw,hwc->ijc", weights(height, out_height), weights(width, out_width), picture.astype(np.float64))
    assert np.abs(expected - shrunk(picture, out_width, out_height)).max() <= 1.0


@pytest.mark.parametrize("sigma", [0.3, 1.0, 1.5, 4.0])
def test_blur_is_gaussian(sigma: float) -> None:
    picture = cloth(70, 50)
    expected = ndimage.gaussian_filter(picture.astype(np.float64), (sigma, sigma, 0), mode="nearest", truncate=np.ceil(3 * sigma) / sigma)
    assert np.abs(expected - gaussian(picture, sigma)).max() <= 1.0


@given(st.floats(0.3, 2), st.floats(0.3, 2), st.floats(0.2, 3), st.floats(-180, 180))
@settings(max_examples=25)
def test_color_jitter_follows_its_formula(brightness: float, contrast: float, saturation: float, hue: float) -> None:
    """Hue as a rotation about the gray axis (Rodrigues), saturation from gray, contrast about 127.5, brightness."""
    drawn = {"brightness_factor": brightness, "contrast_factor": contrast, "saturation_factor": saturation, "hue_degrees": hue}
    effect = CATALOGUE["color_jitter"].model_validate({"step": "color_jitter"}).effect(drawn, Size(40, 30))
    assert isinstance(effect, Recolor)
    picture = cloth(40, 30)
    axis, angle, p = np.ones(3) / np.sqrt(3), np.radians(hue), picture.astype(np.float64)
    p = p * np.cos(angle) + np.cross(axis, p) * np.sin(angle) + axis * (p @ axis)[..., None] * (1 - np.cos(angle))
    gray = (p @ [0.299, 0.587, 0.114])[..., None]
    p = brightness * (127.5 + contrast * (gray + saturation * (p - gray) - 127.5))
    recolor(picture, (0, 0, 40, 30), (effect,))
    assert np.abs(np.clip(p, 0, 255) - picture).max() <= 1.0


def test_masks_take_the_nearest_pixel() -> None:
    mask = (cloth(40, 30)[..., 0] > 128).astype(np.uint8)
    matrix = about(rotation(33).then(scaling(1.3, 1.3)), (20, 15), (25, 25))
    moved, box, count = warp_mask(mask, 0, 0, (), matrix, (5, 3, 48, 47))
    inverse = matrix.inverse()
    y, x = np.mgrid[3:47, 5:48] + 0.5
    column, row = np.floor(inverse.a * x + inverse.b * y + inverse.c).astype(int), np.floor(inverse.d * x + inverse.e * y + inverse.f).astype(int)
    inside = (column >= 0) & (row >= 0) & (column < 40) & (row < 30)
    expected = np.where(inside, mask[row.clip(0, 29), column.clip(0, 39)], 0)
    assert (moved == expected).mean() > 0.9999
    rows, columns = np.nonzero(moved)
    assert count == rows.size
    assert box == (columns.min(), rows.min(), columns.max() + 1, rows.max() + 1)


def test_a_fingerprint_tells_any_change_apart() -> None:
    picture = cloth(31, 17)
    seen = {pixel_digest(picture)}
    for place in range(0, picture.size, 37):
        changed = picture.copy()
        changed.reshape(-1)[place] ^= 1
        seen.add(pixel_digest(changed))
    assert len(seen) == 1 + len(range(0, picture.size, 37))
    assert pixel_digest(np.zeros((2, 8, 3), np.uint8)) != pixel_digest(np.zeros((8, 2, 3), np.uint8))


def test_the_documented_fingerprint_is_the_one_in_use() -> None:
    """Anyone can check a pixel digest with the few lines in docs/formats.md."""
    text = (PROJECT / "docs" / "formats.md").read_text()
    documented: dict[str, Any] = {}
    exec(next(part.split("```")[0] for part in text.split("```python\n") if "def pixel_digest" in part), {"np": np}, documented)
    for shape in ((17, 31, 3), (8, 8, 3), (1, 1, 3), (64, 64, 1)):
        picture = np.random.default_rng(1).integers(0, 256, shape).astype(np.uint8)
        with np.errstate(over="ignore"):
            assert documented["pixel_digest"](picture) == pixel_digest(picture)
