"""Conditions: a known change is found again with its amount, whatever the picture shows."""

from __future__ import annotations

import numpy as np
import pytest
from varlen.datasets.image_files import decode, encode
from varlen.evidence.conditions import PIXEL_NAMES, conditions_of
from varlen.evidence.pixel_measures import detail_of, quality_of_file, quality_of_pixels
from varlen.kernels.blur import gaussian
from varlen.kernels.camera import add_noise, jpeg_artifacts, relight
from varlen.kernels.detail_energy import WEIGHTS, block_details
from varlen.kernels.recolor import recolor
from varlen.model.effects import Curve, Recolor
from varlen.model.geometry import Size
from varlen.steps.color import Gamma, Warmth

from tests.core.evidence.pictures import varied


def _recolored(pixels, change: Recolor | Curve):
    made = np.array(pixels, order="C")
    recolor(made, (0, 0, made.shape[1], made.shape[0]), (change,))
    return made


@pytest.mark.parametrize("sigma", [0.7, 1.0, 1.5, 2.0, 3.0, 4.0])
def test_a_blur_is_told_within_15_percent(sigma: float) -> None:
    found = []
    for picture in varied():
        before, after = detail_of(picture)["sharpness"], detail_of(gaussian(picture, sigma))["sharpness"]
        found.append(np.sqrt(max(after**2 - before**2, 0.0)) / sigma)
    assert 0.85 <= np.median(found) <= 1.15


@pytest.mark.parametrize("sigma", [2.0, 5.0, 10.0, 20.0])
def test_noise_is_told_within_5_percent(sigma: float) -> None:
    found = []
    for number, picture in enumerate(varied()):
        before, after = detail_of(picture)["noise"], detail_of(add_noise(picture, sigma, 31 * number + 7, True))["noise"]
        found.append(np.sqrt(after**2 - before**2) / sigma)
    assert 0.95 <= np.median(found) <= 1.05


@pytest.mark.parametrize("exponent", [0.6, 0.8, 1.25, 1.8])
def test_a_gamma_is_told_within_5_percent(exponent: float) -> None:
    """The exponent that brings the picture's own thumbnail to the brightness that was measured."""
    from scipy import optimize

    step = Gamma()
    size = Size(1, 1)
    for picture in varied():
        wanted = conditions_of(_recolored(picture, step.effect({"exponent": exponent}, size)))["brightness"]
        luma = picture.astype(float) @ (0.299, 0.587, 0.114) / 255.0
        found = optimize.brentq(lambda each, luma=luma, wanted=wanted: float((luma**each).mean()) - wanted, 0.2, 5.0)
        assert found == pytest.approx(exponent, rel=0.05)


@pytest.mark.parametrize("shift", [-0.3, -0.1, 0.1, 0.3])
def test_warmth_is_told_with_its_sign_and_size(shift: float) -> None:
    """(1 + s) / (1 − s) between red and blue levels is about its 2.3rd power in light."""
    step = Warmth()
    found = []
    for picture in varied():
        change = conditions_of(_recolored(picture, step.effect({"shift": shift}, Size(1, 1))))["warmth"] - conditions_of(picture)["warmth"]
        assert np.sign(change) == np.sign(shift)
        ratio = np.exp(change / 2.3)
        found.append((ratio - 1) / (ratio + 1))
    assert np.median(found) == pytest.approx(shift, rel=0.1)


def test_saturation_scales_with_the_factor() -> None:
    from varlen.steps.color import saturation_matrix

    for picture in varied():
        before, after = (conditions_of(each)["saturation"] for each in (picture, _recolored(picture, saturation_matrix(0.5))))
        assert after == pytest.approx(before / 2, rel=0.06, abs=0.004)


def test_unevenness_grows_with_relight_by_its_reach() -> None:
    """Light that runs from 1 − s to 1 + s along the diagonal makes a flat picture uneven by nearly 2 s."""
    flat = np.full((240, 320, 3), 120, np.uint8)
    assert conditions_of(relight(flat, 0.3, 0.0, []))["unevenness"] == pytest.approx(2 * 0.3 * 0.9 * 320 / np.hypot(320, 240), rel=0.03)


def test_quality_comes_from_the_tables_exactly() -> None:
    picture = varied()[0][:64, :96]
    assert [quality_of_file(encode(picture, "jpeg", quality)) for quality in range(1, 101)] == list(range(1, 101))
    assert quality_of_file(encode(picture, "png")) is None
    assert quality_of_file(b"\xff\xd8 no picture") is None


@pytest.mark.parametrize("quality", [10, 30, 50, 70, 85])
def test_quality_is_seen_in_pixels(quality: int) -> None:
    for picture in varied()[:6]:
        assert quality_of_pixels(jpeg_artifacts(picture, quality)) == pytest.approx(quality, abs=2)
        assert quality_of_pixels(decode(encode(picture, "jpeg", quality), "x")) == pytest.approx(quality, abs=2)
        assert quality_of_pixels(picture) == 100


@pytest.mark.parametrize("turn", [lambda p: p[:, ::-1], lambda p: p[::-1]])
def test_flips_change_nothing(turn) -> None:
    for picture in varied():
        before, after = conditions_of(picture), conditions_of(np.ascontiguousarray(turn(picture)))
        for name in before:
            assert after[name] == pytest.approx(before[name], rel=0.02, abs=2e-3), name


@pytest.mark.parametrize(
    "pixels",
    [np.zeros((60, 80, 3), np.uint8), np.full((60, 80, 3), 255, np.uint8), np.full((1, 1, 3), 9, np.uint8), np.full((200, 3, 3), 77, np.uint8),
     np.full((40, 50, 1), 128, np.uint8), np.indices((96, 96)).sum(0)[..., None].repeat(3, 2).astype(np.uint8) % 2 * 255],
)  # fmt: skip
def test_plain_and_tiny_pictures_have_finite_conditions(pixels) -> None:
    found = conditions_of(pixels)
    assert set(found) == set(PIXEL_NAMES) - {"compression"}
    assert all(np.isfinite(value) for value in found.values())
    assert np.isfinite(quality_of_pixels(pixels if pixels.shape[2] == 3 else pixels.repeat(3, 2)))


def test_block_details_are_those_of_plain_arrays() -> None:
    from scipy import ndimage

    picture = varied()[2]
    luma, green = picture.astype(np.float64) @ (0.299, 0.587, 0.114), picture[:, :, 1].astype(np.float64)
    line = np.concatenate([WEIGHTS[:0:-1], WEIGHTS]).astype(np.float64)
    soft = ndimage.correlate1d(ndimage.correlate1d(luma, line, axis=1), line, axis=0)
    kernel = np.array([[1, -2, 1], [-2, 4, -2], [1, -2, 1]]) / 6
    found = block_details(picture, 16)
    rows, columns = found.shape[:2]
    top, left = (picture.shape[0] - rows * 16) // 2, (picture.shape[1] - columns * 16) // 2

    def blocks(plane):
        return plane[top : top + rows * 16, left : left + columns * 16].reshape(rows, 16, columns, 16).mean(axis=(1, 3))

    def gradient(plane):
        across, down = np.roll(plane, -1, 1) - np.roll(plane, 1, 1), np.roll(plane, -1, 0) - np.roll(plane, 1, 0)
        return (across**2 + down**2) / 4

    clipped = ((green < 2) | (green > 253)).astype(float)
    planes = (gradient(luma), gradient(soft), ndimage.correlate(green, kernel) ** 2, ndimage.correlate(luma, kernel) ** 2, clipped)
    for field, plane in enumerate(planes):
        np.testing.assert_allclose(found[:, :, field], blocks(plane), rtol=2e-4, atol=1e-3)
