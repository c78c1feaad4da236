"""How drawn steps are folded into passes."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import read_dataset
from varlen.errors import RenderError
from varlen.pipeline.plan import Plan, Resample
from varlen.render.renderer import Renderer

from tests.conftest import make_pipeline, write_coco

FLIP = {"step": "flip"}
TURN = {"step": "rotate", "degrees": [9, 9], "edges": "mirror"}
LIGHT = {"step": "color_jitter", "brightness_factor": [1.2, 1.2]}
CROP = {"step": "crop", "mode": "centre", "fraction": 0.8, "scope": "train"}
FIT = {"step": "resize", "width_px": 160, "height_px": 160}
SOFT = {"step": "blur", "sigma_px": [1, 1]}


@pytest.fixture
def edge(tmp_path: Path) -> Dataset:
    """A picture of 200×150 px, dark on the left, light on the right."""
    pixels = np.full((150, 200, 3), 40, np.uint8)
    pixels[:, 100:] = 200
    return read_dataset(write_coco(tmp_path, [{"id": 1, "file_name": "a.png", "width": 200, "height": 150, "pixels": pixels}], []))


def plan(dataset: Dataset, *steps: dict) -> Plan:
    return Renderer(dataset, make_pipeline(*steps)).plan("images/train/a.png", 1)


def test_geometry_becomes_one_resample_across_color(edge: Dataset) -> None:
    made = plan(edge, FLIP, TURN, LIGHT, CROP, FIT)
    assert [type(stage) for stage in made.stages] == [Resample]
    assert [member.step for member in made.stages[0].members] == ["flip", "rotate", "crop", "resize"]
    assert made.passes == 2  # one resample, one color
    assert plan(edge, FLIP, TURN, CROP, FIT).passes == 1


def test_colors_become_one_pass(edge: Dataset) -> None:
    gamma = {"step": "gamma", "exponent": [2, 2]}
    assert plan(edge, LIGHT, gamma, {**gamma, "id": "again"}).passes == 1
    assert plan(edge, gamma, LIGHT, {**gamma, "id": "again"}, {**LIGHT, "id": "more"}).passes == 2
    made = plan(edge, LIGHT, {**LIGHT, "id": "more"}, {**LIGHT, "id": "still more"[:5]})
    assert [len(stage) for stage in made.stages] == [1]
    assert made.passes == 1


@pytest.mark.parametrize(
    ("steps", "runs"),
    [
        ([CROP, TURN], 2),  # what was cut off must not come back in the corners
        ([FIT, TURN], 2),  # nor may padding be turned into picture
        ([TURN, {**TURN, "id": "other", "edges": "solid"}], 2),
        ([LIGHT, {**TURN, "edges": "solid"}], 2),  # the fill is not to be recolored
        ([TURN, SOFT, FIT], 3),
    ],
)
def test_what_starts_a_new_pass(edge: Dataset, steps: list[dict], runs: int) -> None:
    assert len(plan(edge, *steps).stages) == runs


def test_flips_and_crops_are_copies(edge: Dataset) -> None:
    renderer = Renderer(edge, make_pipeline(FLIP, CROP))
    made = renderer.plan("images/train/a.png", 1)
    assert made.passes == 0
    source = edge.pixels("images/train/a.png")
    assert np.array_equal(renderer.pixels(made), source[15:135, ::-1][:, 20:180])


@pytest.mark.parametrize("degrees", [90, 180, -90])
def test_turning_by_right_angles_keeps_every_pixel(edge: Dataset, degrees: float) -> None:
    renderer = Renderer(edge, make_pipeline({"step": "rotate", "degrees": [degrees, degrees], "frame": "grow"}))
    made = renderer.pixels(renderer.plan("images/train/a.png", 1))
    assert np.array_equal(made, np.rot90(edge.pixels("images/train/a.png"), round(degrees / 90)))


def blur_width(pixels: np.ndarray) -> float:
    """How many pixels the edge takes to go from 10 % to 90 %, along the rows, on average."""
    rows = pixels[20:-20, :, 0].astype(float)
    rows = rows if rows[0, 0] < rows[0, -1] else rows[:, ::-1]
    places = np.arange(rows.shape[1])
    return float(np.mean([np.interp(184, row, places) - np.interp(56, row, places) for row in rows]))


def test_one_resample_is_sharper_than_one_for_each_step(edge: Dataset) -> None:
    """flip → rotate → shear → scale → crop → resize: once composed, once with each resampled by itself."""
    moves: list[dict] = [
        {"step": "flip"}, {"step": "rotate", "degrees": [9, 9], "edges": "extend"}, {"step": "shear", "x_degrees": [10, 10], "edges": "extend"},
        {"step": "scale", "factor": [1.02, 1.02], "edges": "extend"}, {"step": "crop", "mode": "centre", "fraction": 0.9, "scope": "train"},
        {"step": "resize", "width_px": 197, "height_px": 147, "fit": "stretch"},
    ]  # fmt: skip
    together = Renderer(edge, make_pipeline(*moves))
    made = together.plan("images/train/a.png", 1)
    assert made.passes == 1
    apart: list[dict] = []
    for move in moves:
        apart += [move, {"id": f"stop-{move['step']}", "step": "blur", "sigma_px": [0.15, 0.15]}]  # a blur too narrow to change a level
    separate = Renderer(edge, make_pipeline(*apart))
    parts = separate.plan("images/train/a.png", 1)
    assert sum(isinstance(stage, Resample) for stage in parts.stages) == 6
    assert blur_width(together.pixels(made)) < 0.75 * blur_width(separate.pixels(parts))


def test_evaluation_images_take_only_the_steps_for_every_split(edge: Dataset) -> None:
    renderer = Renderer(edge, make_pipeline(FLIP, TURN, LIGHT, FIT))
    assert [step["id"] for step in renderer.variant_labels("images/train/a.png", 0).trace["steps"]] == ["resize"]
    edge.entries["images/train/a.png"] = type(edge.entries["images/train/a.png"])(
        "images/train/a.png", "validation", edge.size_of("images/train/a.png"), edge.entries["images/train/a.png"].objects
    )
    assert [step["id"] for step in renderer.variant_labels("images/train/a.png", 3).trace["steps"]] == ["resize"]


def test_a_window_outside_the_picture_is_refused_by_name(edge: Dataset) -> None:
    away = {"id": "part", "step": "crop", "mode": "window", "left_px": 500}
    with pytest.raises(RenderError, match=r"step part: the window starts at \(500, 0\) px, outside a picture of 200×150 px"):
        plan(edge, away)
