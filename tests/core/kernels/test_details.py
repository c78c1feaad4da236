"""PixelOperation steps and composed pixels against plain formulas, SciPy and a real codec."""

from __future__ import annotations

import io
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image
from scipy import ndimage
from varlen.kernels.bends import backward, forward
from varlen.kernels.blur import motion_blur, sharpen
from varlen.kernels.camera import add_noise, jpeg_artifacts, random_levels, relight
from varlen.kernels.compositing import blend
from varlen.kernels.equalize import equalize
from varlen.kernels.recolor import recolor
from varlen.kernels.warp_mapped import warp_mapped
from varlen.model.effects import Curve, DisplacementField, Recolor
from varlen.model.geometry import Matrix, Size, about, quad_from_square, rotation, scaling
from varlen.steps import CATALOGUE


def cloth(width: int, height: int, seed: int = 0) -> np.ndarray:
    """A smooth picture with all levels in it."""
    rough = np.random.default_rng(seed).standard_normal((height, width, 3))
    return np.clip(ndimage.gaussian_filter(rough, (2, 2, 0)) * 700 + 128, 0, 255).astype(np.uint8)


def effect(name: str, **values: Any) -> Any:
    return CATALOGUE[name].model_validate({"step": name}).effect(values, Size(40, 30))


COLORS = {
    "gamma": ({"exponent": 1.7}, lambda p: 255 * (p / 255) ** 1.7),
    "channel_gain": ({"red_factor": 1.2, "green_factor": 0.9, "blue_factor": 1.05}, lambda p: p * [1.2, 0.9, 1.05]),
    "warmth": ({"shift": 0.2}, lambda p: p * np.array([1.2, 1.0, 0.8]) / (0.299 * 1.2 + 0.587 + 0.114 * 0.8)),
    "grayscale": ({}, lambda p: np.repeat((p @ [0.299, 0.587, 0.114])[..., None], 3, 2)),
}


@pytest.mark.parametrize("name", COLORS)
def test_color_steps_follow_their_formulas(name: str) -> None:
    drawn, formula = COLORS[name]
    picture = cloth(40, 30)
    expected = np.clip(formula(picture.astype(float)), 0, 255)
    recolor(picture, (0, 0, 40, 30), (effect(name, **drawn),))
    assert np.abs(picture - expected).max() <= 0.51


def test_a_table_a_matrix_and_a_table_in_one_pass() -> None:
    picture = cloth(40, 30)
    invert, bright, halve = Curve(bytes(range(255, -1, -1))), Recolor.gains(1.3, 1.1, 0.9, 4.0), Curve(bytes(n // 2 for n in range(256)))
    expected = np.rint(np.clip((255 - picture.astype(float)) * [1.3, 1.1, 0.9] + 4, 0, 255)) // 2
    recolor(picture, (0, 0, 40, 30), (invert, bright, halve))
    assert np.abs(picture - expected).max() <= 1


def test_motion_blur_is_a_mean_along_a_line() -> None:
    picture = cloth(60, 50)
    cos, sin = np.cos(np.radians(30)), np.sin(np.radians(30))
    samples = [ndimage.shift(picture.astype(float), (n / 2 * sin, -n / 2 * cos, 0), order=1, mode="nearest") for n in range(-9, 10)]
    assert np.abs(motion_blur(picture, 9.0, 30.0) - np.mean(samples, 0)).max() <= 1.5
    for degrees in (0, 30, 90, 135, 180):
        spot = np.zeros((41, 41, 3), np.uint8)
        spot[20, 20] = 255
        rows, columns = np.nonzero(motion_blur(spot, 15.0, degrees)[..., 0])
        reach = np.hypot(np.ptp(rows), np.ptp(columns))
        assert 13 <= reach <= 17.5
        if degrees == 30:  # counter-clockwise from level: up on the right
            assert rows[columns.argmax()] < 20 < rows[columns.argmin()]
    assert np.array_equal(motion_blur(np.full((9, 9, 3), 77, np.uint8), 7.3, 33.0), np.full((9, 9, 3), 77, np.uint8))


def test_sharpening_adds_the_difference_to_a_blurred_copy() -> None:
    picture = cloth(60, 50)
    smooth = ndimage.gaussian_filter(picture.astype(float), (1, 1, 0), mode="nearest", truncate=3)
    expected = np.clip(picture + 0.8 * (picture - smooth), 0, 255)
    assert np.abs(sharpen(picture, 0.8) - expected).max() <= 1.6


@settings(max_examples=12)
@given(st.floats(0.5, 30), st.integers(0, 2**53), st.booleans())
def test_noise_has_the_width_it_says(sigma: float, key: int, per_channel: bool) -> None:
    gray = np.full((200, 200, 3), 128, np.uint8)
    noise = add_noise(gray, sigma, key, per_channel).astype(float) - 128
    assert abs(noise.mean()) < 6 * sigma / 200 + 0.02
    assert noise.std() == pytest.approx(np.hypot(sigma, np.sqrt(1 / 12)), rel=0.05)
    apart = np.corrcoef(noise[..., 0].ravel(), noise[..., 1].ravel())[0, 1]
    assert abs(apart) < 0.05 if per_channel else apart > 0.999
    assert abs(np.corrcoef(noise[:-1, :, 0].ravel(), noise[1:, :, 0].ravel())[0, 1]) < 0.05


def test_random_levels_are_even() -> None:
    levels = random_levels(40_000, 7)
    counts = np.bincount(levels.ravel(), minlength=256)
    assert counts.min() > 0.7 * counts.mean()
    assert not np.array_equal(levels, random_levels(40_000, 8))


@pytest.mark.parametrize("quality", [10, 40, 75, 90])
def test_compression_looks_as_a_real_codec_makes_it(quality: int) -> None:
    """Not the same bytes, but the same picture: nearer to the codec's result than that is to the original."""
    picture = (0.8 * cloth(93, 70)[..., :1] + 0.2 * cloth(93, 70, 1)).astype(np.uint8)
    stream = io.BytesIO()
    Image.fromarray(picture).save(stream, "JPEG", quality=quality, subsampling=2)
    real = np.asarray(Image.open(io.BytesIO(stream.getvalue()))).astype(float)
    ours = jpeg_artifacts(picture, quality).astype(float)
    light = np.array([0.299, 0.587, 0.114])
    assert np.abs((ours - real) @ light).mean() < 0.35 * np.abs((real - picture) @ light).mean() + 0.3
    assert np.abs(ours - picture).mean() == pytest.approx(np.abs(real - picture).mean(), rel=0.25)


def test_equalizing_widens_local_contrast_up_to_its_limit() -> None:
    flat = (cloth(160, 120).astype(float) * 0.25 + 90).astype(np.uint8)
    mild, strong = equalize(flat, 4, 1.5), equalize(flat, 4, 4.0)
    assert flat.std() < mild.std() < strong.std()
    assert np.abs(equalize(flat, 4, 1.0).astype(int) - flat).max() <= 1
    gray = np.repeat(flat[..., :1], 3, 2)
    assert np.array_equal(equalize(gray, 4, 3.0)[..., 0], equalize(gray, 4, 3.0)[..., 2])


def test_relighting_follows_its_formula() -> None:
    picture = cloth(70, 50)
    shadow = {"x_fraction": 0.3, "y_fraction": 0.6, "length_fraction": 0.5, "breadth_fraction": 0.2, "degrees": 25.0}
    y, x = np.mgrid[0:50, 0:70] + 0.5
    half, angle, turn = np.hypot(70, 50) / 2, np.radians(60), np.radians(25)
    gain = 1 + 0.3 * ((x - 35) * np.cos(angle) - (y - 25) * np.sin(angle)) / half
    dx, dy = x - 21, y - 30
    u, v = (dx * np.cos(turn) - dy * np.sin(turn)) / (0.5 * half), (dx * np.sin(turn) + dy * np.cos(turn)) / (0.2 * half)
    t = np.clip((1.4 - np.hypot(u, v)) / 0.8, 0, 1)
    expected = np.clip(picture * (gain * (1 - 0.3 * t * t * (3 - 2 * t)))[..., None], 0, 255)
    assert np.abs(relight(picture, 0.3, 60.0, [shadow]) - expected).max() <= 0.6


def test_mixing_is_a_weighted_mean() -> None:
    one, two = cloth(40, 30), cloth(40, 30, 1)
    assert np.abs(blend(one, two, 0.3) - (0.3 * one + 0.7 * two)).max() <= 0.51


FIELD = st.builds(
    DisplacementField, st.builds(Size, st.integers(40, 300), st.integers(40, 300)), st.floats(8, 40), st.just(0.0), st.integers(0, 2**53)
)


@settings(max_examples=60)
@given(FIELD, st.floats(0, 0.48))
def test_bends_never_fold_and_are_found_back(field: DisplacementField, share: float) -> None:
    """Up to the largest strength allowed: the way there and back ends within 1/1000 px, and neighbours stay neighbours."""
    field = DisplacementField(field.size, field.spacing, field.spacing * share, field.key)
    width, height = field.size
    y, x = np.mgrid[0 : height + 1 : 3, 0 : width + 1 : 3].astype(float)
    points = np.stack([x.ravel(), y.ravel()], 1)
    source = backward(points, field)
    assert np.abs(backward(forward(points, field), field) - points).max() < 1e-3
    assert np.abs(forward(source, field) - points).max() < 0.05
    step = 1e-4
    across, down = backward(points + np.array([step, 0]), field) - source, backward(points + np.array([0, step]), field) - source
    assert (across[:, 0] * down[:, 1] - across[:, 1] * down[:, 0]).min() > 0
    border = np.array([[0, height / 3], [width, height / 2], [width / 3, 0], [width / 2, height], [0, 0]])
    assert np.allclose(backward(border, field), border)


@pytest.mark.parametrize("edges", ["extend", "mirror", "wrap", "solid"])
@pytest.mark.parametrize("bent", [False, True])
def test_mapped_pixels_are_those_of_scipy(edges: str, bent: bool) -> None:
    """Positions followed back by hand, pixels looked up by scipy.ndimage."""
    picture = cloth(90, 70)
    quad = scaling(1 / 90, 1 / 70).then(quad_from_square([(4, 5), (80, -6), (95, 66), (-3, 75)]))
    bends = ((about(rotation(8), (45, 35)), DisplacementField(Size(90, 70), 14.0, 3.0, 5)),) if bent else ()
    out = np.empty_like(picture)
    warp_mapped(picture, bends, quad, out, (0, 0, 90, 70), edges, (9, 8, 7))
    y, x = np.mgrid[0:70, 0:90] + 0.5
    points = quad.inverse().points(np.stack([x.ravel(), y.ravel()], 1))
    for before, field in reversed(bends):
        points = before.inverse().points(backward(points, field))
    mode = {"extend": "nearest", "mirror": "reflect", "wrap": "grid-wrap", "solid": "nearest"}[edges]
    places = [points[:, 1] - 0.5, points[:, 0] - 0.5]
    expected = np.stack([ndimage.map_coordinates(picture[..., c].astype(float), places, order=1, mode=mode) for c in range(3)], 1).reshape(out.shape)
    inside = ((points >= 0) & (points < [90, 70])).all(axis=1).reshape(70, 90)
    assert 0.05 < 1 - inside.mean() < 0.6 or not bent
    if edges == "solid":
        assert (out[~inside] == [9, 8, 7]).all()
        assert np.abs(out - expected)[inside].max() <= 2.0
    else:
        assert np.abs(out - expected).max() <= 2.0


def test_a_mapped_identity_changes_nothing() -> None:
    picture = cloth(31, 22)
    out = np.empty_like(picture)
    warp_mapped(picture, (), Matrix(), out, (0, 0, 31, 22), "solid", (0, 0, 0))
    assert np.array_equal(out, picture)
