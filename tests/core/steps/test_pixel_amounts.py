"""Amounts in pixels, chosen centres, windows beyond the picture, brightness down to nothing."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from varlen.errors import RenderError
from varlen.pipeline.document import from_json
from varlen.render.renderer import Renderer

from tests.conftest import make_pipeline
from tests.core.scenes import scene

BOXES = {"a": [{"box": [20, 20, 40, 36]}]}


def rendered(*steps: dict[str, Any], seed: int = 1, variant: int = 1) -> tuple[Any, Any]:
    renderer = Renderer(scene(BOXES), make_pipeline(*steps, seed=seed, labels={"keep_side_px": 0}))
    sample, trace = renderer.render("a", variant)
    return sample, trace


def test_a_shift_in_pixels() -> None:
    sample, trace = rendered({"step": "shift", "x_px": [7, 7], "y_px": [-5, -5]})
    assert sample.objects.boxes.tolist() == [[27, 15, 47, 31]]
    assert trace["steps"][0]["drawn"] == {"x_px": 7, "y_px": -5}
    original = scene(BOXES).pixels("a")
    assert np.array_equal(sample.pixels[:75, 7:], original[5:, :-7])
    _, trace = rendered({"step": "shift", "x_px": [3, 9]})
    assert set(trace["steps"][0]["drawn"]) == {"x_px", "y_fraction"}
    assert 3 <= trace["steps"][0]["drawn"]["x_px"] <= 9


def test_a_random_crop_in_pixels() -> None:
    seen = set()
    for seed in range(12):
        sample, _ = rendered({"step": "crop", "mode": "random", "width_px": 60, "height_px": 50}, seed=seed)
        assert tuple(sample.size) == (60, 50)
        seen.add(sample.pixels.tobytes())
    assert len(seen) > 8
    document = {"varlen_pipeline": 1, "steps": [{"step": "crop", "mode": "random", "width_px": 60, "height_px": 50}]}
    full = from_json(document).to_json()
    assert full["steps"][0]["size_by"] == "px"
    assert from_json(full).digest == from_json(document).digest
    shares = from_json({"varlen_pipeline": 1, "steps": [{"step": "crop"}]}).to_json()["steps"][0]
    assert "size_by" not in shares
    assert from_json({"varlen_pipeline": 1, "steps": [shares]}).to_json()["steps"][0] == shares


@pytest.mark.parametrize("mode", ["window", "random"])
def test_a_window_beyond_the_picture(mode: str) -> None:
    step = {"step": "crop", "mode": mode, "width_px": 130, "height_px": 60, "scope": "train"}
    with pytest.raises(RenderError, match=r"reaches beyond a picture of 100×80 px; make it smaller, or set beyond: pad"):
        rendered(step)
    sample, _ = rendered({**step, "beyond": "pad", "pad_color": [9, 8, 7]})
    assert tuple(sample.size) == (130, 60)
    left = 0 if mode == "window" else -15
    assert sample.pixels[30, 129].tolist() == [9, 8, 7]
    assert sample.objects.boxes[0][0] == 20 - left


@pytest.mark.parametrize("step", [{"step": "rotate", "degrees": [30, 30]}, {"step": "scale", "factor": [1.5, 1.5]}])
def test_about_a_chosen_centre(step: dict[str, Any]) -> None:
    """What lies at the centre stays; without one the middle does."""
    from varlen.model.geometry import Matrix

    chosen = Renderer(scene(BOXES), make_pipeline({**step, "centre_x_px": 30, "centre_y_px": 25})).plan("a", 1)
    (run,) = chosen.stages
    assert isinstance(run.matrix, Matrix)  # type: ignore[union-attr]
    assert run.matrix.points(np.array([[30.0, 25.0]]))[0] == pytest.approx([30, 25])  # type: ignore[union-attr]
    middle = Renderer(scene(BOXES), make_pipeline(step)).plan("a", 1).stages[0]
    assert middle.matrix.points(np.array([[50.0, 40.0]]))[0] == pytest.approx([50, 40])  # type: ignore[union-attr]


def test_a_centre_needs_the_same_frame() -> None:
    with pytest.raises(Exception, match="a chosen centre needs frame: keep"):
        make_pipeline({"step": "rotate", "frame": "grow", "centre_x_px": 4})


def test_brightness_down_to_nothing() -> None:
    sample, _ = rendered(
        {"step": "color_jitter", "brightness_factor": [0, 0], "contrast_factor": [1, 1], "saturation_factor": [1, 1], "hue_degrees": [0, 0]}
    )
    assert not sample.pixels.any()
    drawn = [
        rendered({"step": "color_jitter", "brightness_factor": [0, 2]}, seed=seed)[1]["steps"][0]["drawn"]["brightness_factor"] for seed in range(200)
    ]
    assert abs(np.mean(drawn) - 1.0) < 0.12
    assert min(drawn) < 0.1
    assert np.mean(np.array(drawn) < 0.5) == pytest.approx(0.25, abs=0.09)


def test_labels_that_reach_out_are_clipped_alike_with_and_without_steps() -> None:
    """By the source, whether or not a step moves the picture afterwards."""
    rows = {"a": [{"box": [-10, 10, 30, 30]}, {"box": [85, 60, 125, 100]}, {"box": [95, 75, 195, 175]}, {"box": [20, 20, 30, 30]}]}
    plain = Renderer(scene(rows), make_pipeline()).variant_labels("a", 1)
    mirrored = Renderer(scene(rows), make_pipeline({"step": "flip"})).variant_labels("a", 1)
    for found in (plain, mirrored):
        assert [(each["step"], each["reason"]) for each in found.trace["objects"]["clipped_by"]] == [("source", "cut by the frame")]
        assert [each["step"] for each in found.trace["objects"]["dropped"]] == ["source", "source"]
    assert plain.objects.boxes.tolist() == [[0, 10, 30, 30], [20, 20, 30, 30]]
    assert mirrored.objects.boxes.tolist() == [[70, 10, 100, 30], [70, 20, 80, 30]]
