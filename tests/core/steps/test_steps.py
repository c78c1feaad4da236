"""What each step promises, over many draws."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from varlen.draws import PartnerRing, Stream
from varlen.kernels.label_transforms import exposed_share
from varlen.model.effects import Mosaic, Move
from varlen.model.geometry import Size
from varlen.steps import CATALOGUE, describe
from varlen.steps.base import DrawContext, Step

SIZE = st.builds(Size, st.integers(2, 900), st.integers(2, 900))
PEERS = PartnerRing({key: [key] for key in "abcde"})


def effect(values: dict, size: Size, seed: int) -> Move | Mosaic:
    step: Step = CATALOGUE[values["step"]].model_validate({"id": "s", **values})
    drawn = step.draw(Stream(seed, "a", 1, "s"), DrawContext(size, "a", lambda: PEERS))
    made = step.effect(drawn, size)
    assert isinstance(made, Move | Mosaic)
    return made


@given(SIZE, st.integers(0, 9999), st.floats(0.05, 1), st.floats(0.2, 5))
def test_a_random_part_lies_within_the_picture(size: Size, seed: int, area: float, aspect: float) -> None:
    move = effect({"step": "crop", "mode": "random", "area_fraction": [area, area], "aspect": [aspect, aspect]}, size, seed)
    assert isinstance(move, Move)
    assert move.matrix.lossless()
    assert exposed_share(move.matrix, size, move.size.rect) == 0
    wanted = area * size.width * size.height
    fits = (wanted * aspect) ** 0.5 <= size.width and (wanted / aspect) ** 0.5 <= size.height
    if fits and min(move.size) > 20:
        assert move.size.width * move.size.height == pytest.approx(wanted, rel=0.06)


@given(SIZE, st.floats(-180, 180), st.sampled_from(["keep", "grow", "zoom"]))
def test_frames_of_a_rotation(size: Size, degrees: float, frame: str) -> None:
    move = effect({"step": "rotate", "degrees": [degrees, degrees], "frame": frame}, size, 0)
    assert isinstance(move, Move)
    if frame == "grow":
        for x, y in move.matrix.quad(size.rect):
            assert -1e-5 <= x <= move.size.width + 1e-5
            assert -1e-5 <= y <= move.size.height + 1e-5
    else:
        assert move.size == size
    if frame == "zoom":
        assert exposed_share(move.matrix, size, move.size.rect) < 1e-9


@given(SIZE, st.integers(1, 700), st.integers(1, 700))
def test_a_letterbox_shows_all_of_the_picture_padded_evenly(size: Size, width: int, height: int) -> None:
    move = effect({"step": "resize", "width_px": width, "height_px": height, "fit": "letterbox"}, size, 0)
    assert isinstance(move, Move)
    assert move.size == (width, height)
    x0, y0, x1, y1 = move.window or move.size.rect
    assert abs(x0 - (width - x1)) <= 1
    assert abs(y0 - (height - y1)) <= 1
    assert exposed_share(move.matrix, size, (x0, y0, x1, y1)) < 1e-9
    for (ax, ay), (bx, by) in zip(move.matrix.quad(size.rect), [(x0, y0), (x1, y0), (x1, y1), (x0, y1)], strict=True):
        assert (ax, ay) == (pytest.approx(bx, abs=1e-6), pytest.approx(by, abs=1e-6))


@given(SIZE, st.integers(1, 700), st.integers(1, 700))
def test_cover_leaves_nothing_blank(size: Size, width: int, height: int) -> None:
    move = effect({"step": "resize", "width_px": width, "height_px": height, "fit": "cover"}, size, 0)
    assert isinstance(move, Move)
    assert exposed_share(move.matrix, size, move.size.rect) < 1e-9


@settings(max_examples=60)
@given(SIZE, st.lists(SIZE, min_size=4, max_size=4), st.integers(0, 9999))
def test_a_mosaic_fills_its_canvas_with_every_cell_covered(canvas: Size, pictures: list[Size], seed: int) -> None:
    made = effect({"step": "mosaic", "width_px": canvas.width, "height_px": canvas.height}, Size(10, 10), seed)
    assert isinstance(made, Mosaic)
    assert sum((x1 - x0) * (y1 - y0) for x0, y0, x1, y1 in (cell.rect for cell in made.cells)) == canvas.width * canvas.height
    assert made.cells[0].image == "a"
    assert all(cell.image != "a" for cell in made.cells[1:])
    for cell, picture in zip(made.cells, pictures, strict=True):
        x0, y0, x1, y1 = map(float, cell.rect)
        assert exposed_share(cell.matrix(picture, made.size), picture, (x0, y0, x1, y1)) < 1e-6


@pytest.mark.parametrize("name", sorted(CATALOGUE))
def test_every_parameter_says_what_it_is(name: str) -> None:
    about = describe(CATALOGUE[name])
    assert about["meaning"].endswith(".")
    assert about["purpose"] in ("move", "light", "texture", "hide", "combine", "fit")
    for parameter in about["parameters"]:
        assert parameter["meaning"]
        assert parameter["control"] in (
            "span",
            "number",
            "whole",
            "option",
            "several",
            "switch",
            "levels",
            "color",
            "branches",
            "probability",
            "scope",
        )
        if parameter["control"] in ("span", "number"):
            assert parameter["unit"]
            assert parameter["low"] <= min(parameter["slider"]) < max(parameter["slider"]) <= parameter["high"]


def test_what_multiplies_is_drawn_and_dragged_in_octaves() -> None:
    """Half and double are equally far from one; shares, angles and lengths go evenly."""
    for name, cls in CATALOGUE.items():
        for parameter in describe(cls)["parameters"]:
            if parameter["control"] == "span":
                factor = parameter["unit"] in ("×", "w/h", "power") and (parameter["low"] > 0 or name == "color_jitter") and parameter["high"] > 1
                assert parameter.get("log", False) is factor, (name, parameter["name"])


def test_defaults_of_scope_follow_what_a_step_is_for() -> None:
    def scope(**values: str) -> str:
        return CATALOGUE[values["step"]].model_validate(values).scope

    assert scope(step="resize") == "every"
    assert scope(step="rotate") == scope(step="crop") == scope(step="crop", mode="random") == "train"
    assert scope(step="crop", mode="centre") == scope(step="crop", mode="window") == "every"
    assert scope(step="crop", mode="centre", scope="train") == "train"
