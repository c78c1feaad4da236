"""The dot test: a lit spot and the keypoint on it stay together, in memory and through written files."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from varlen.datasets.formats import read_dataset
from varlen.datasets.image_files import decode
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.render.renderer import Renderer

from tests.conftest import dotted, light_near, make_pipeline

DOTS = [(100, 80), (31, 47), (150, 20), (75, 101), (171, 115), (96, 64)]
WIDTH, HEIGHT = 192, 144

EXACT = {
    "flip across": {"step": "flip", "direction": "horizontal"},
    "flip down": {"step": "flip", "direction": "vertical"},
    "half turn": {"step": "flip", "direction": "both"},
    "crop window": {"step": "crop", "mode": "window", "left_px": 13, "top_px": 7, "width_px": 170, "height_px": 130, "scope": "train"},
    "crop centre": {"step": "crop", "mode": "centre", "fraction": 0.9, "scope": "train"},
    "crop random": {"step": "crop", "mode": "random"},
    "crop around object": {"step": "crop", "mode": "around_object", "margin_fraction": [4, 9]},
    "quarter turn": {"step": "quarter_turn"},
    "shift": {"step": "shift"},
    "pad": {"step": "pad", "multiple_px": 100, "scope": "train"},
    "pad mirrored": {"step": "pad", "width_px": 220, "height_px": 201, "edges": "extend"},
    "junction": {"step": "junction", "branches": [{"steps": [{"step": "flip", "probability": 1}]}, {"steps": [{"step": "quarter_turn"}]}]},
}
RESAMPLED = {
    "rotate keep": {"step": "rotate", "degrees": [-25, 25], "frame": "keep"},
    "rotate keep mirrored": {"step": "rotate", "degrees": [12.5, 12.5], "frame": "keep", "edges": "extend"},
    "rotate grow": {"step": "rotate", "degrees": [-90, 90], "frame": "grow"},
    "rotate zoom": {"step": "rotate", "degrees": [-15, 15], "frame": "zoom"},
    "resize stretch": {"step": "resize", "width_px": 257, "height_px": 123, "fit": "stretch"},
    "resize letterbox": {"step": "resize", "width_px": 300, "height_px": 300, "fit": "letterbox", "pad_color": [0, 0, 0]},
    "resize smaller": {"step": "resize", "width_px": 97, "height_px": 97, "fit": "letterbox", "pad_color": [0, 0, 0]},
    "resize cover": {"step": "resize", "width_px": 160, "height_px": 160, "fit": "cover"},
    "resize longest": {"step": "resize", "width_px": 230, "fit": "longest"},
    "resize shortest": {"step": "resize", "width_px": 99, "fit": "shortest"},
    "shear": {"step": "shear", "x_degrees": [-20, 20], "y_degrees": [-10, 10]},
    "scale": {"step": "scale", "factor": [0.7, 1.6], "stretch_factor": [0.8, 1.25]},
    "perspective": {"step": "perspective", "corner_fraction": [0.05, 0.12]},
    "elastic": {"step": "elastic", "strength_fraction": [0.02, 0.05], "spacing_fraction": 0.2},
    "lens barrel": {"step": "lens", "k1": [-0.2, -0.1]},
    "lens pincushion": {"step": "lens", "k1": [0.1, 0.3], "k2": [-0.05, 0.05]},
    "mosaic": {"step": "mosaic"},
    "mosaic 3x3": {"step": "mosaic", "grid": "3x3", "tile_scale": [1, 1]},
    "mixup": {"step": "mixup", "weight": [0.5, 0.5]},
}
WITH_SEAMS = ("mosaic", "mixup")
CHAIN = [
    {"step": "flip"},
    {"step": "rotate", "degrees": [-20, 20], "frame": "grow"},
    {"step": "elastic", "strength_fraction": [0.03, 0.03], "spacing_fraction": 0.2},
    {"step": "perspective", "corner_fraction": [0.05, 0.05]},
    {"step": "lens", "k1": [-0.1, -0.1]},
    {"step": "crop", "mode": "random", "area_fraction": [0.6, 0.9]},
    {"step": "resize", "width_px": 200, "height_px": 160, "pad_color": [0, 0, 0]},
]


@pytest.fixture(scope="module")
def dots(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return dotted(tmp_path_factory.mktemp("dots"), WIDTH, HEIGHT, DOTS)


def check(pixels: np.ndarray, keypoints: np.ndarray, within: float) -> int:
    """Every labelled keypoint lies on light; returns how many were looked at."""
    seen = 0
    height, width = pixels.shape[:2]
    for x, y, visibility in keypoints.reshape(-1, 3):
        if visibility == 0 or not (4 <= x <= width - 4 and 4 <= y <= height - 4):
            continue  # near the edge part of the spot is cut off and its centre moves
        found = light_near(pixels, x, y)
        assert abs(found[0] - x) <= within, (found, (x, y))
        assert abs(found[1] - y) <= within, (found, (x, y))
        seen += 1
    return seen


@pytest.mark.parametrize("step", [pytest.param(step, id=name) for name, step in (EXACT | RESAMPLED).items()])
def test_light_and_keypoint_stay_together(dots: Path, step: dict) -> None:
    dataset = read_dataset(dots)
    within = 1e-9 if step in EXACT.values() else 0.5
    seen = 0
    for seed in (1, 2):
        renderer = Renderer(dataset, make_pipeline(step, seed=seed, labels={"keep_share": 0.9, "keep_side_px": 0}))
        for key in dataset.entries:
            sample, _ = renderer.render(key, 1)
            if step["step"] in WITH_SEAMS:
                within = 0.75  # a spot may be cut by a seam between pictures, or lie near one shining through
            seen += check(sample.pixels, sample.objects.keypoints, within)
    assert seen >= 6


@pytest.mark.parametrize("image", ["png", "jpeg"])
@pytest.mark.parametrize("steps", [[step] for step in (EXACT | RESAMPLED).values()] + [CHAIN], ids=[*(EXACT | RESAMPLED), "chain"])
def test_also_through_written_files(dots: Path, tmp_path: Path, steps: list[dict], image: str) -> None:
    """In the file's own convention: a COCO keypoint names the pixel it lies on."""
    dataset = read_dataset(dots)
    export(
        dataset,
        make_pipeline(*steps, seed=5, labels={"keep_share": 0.9, "keep_side_px": 0}),
        tmp_path / "out",
        ExportSpec(variants=2, originals=False, image=image),
    )
    labels = json.loads((tmp_path / "out" / "annotations" / "train.json").read_text())
    files = {item["id"]: item["file_name"] for item in labels["images"]}
    seen = 0
    for annotation in labels["annotations"]:
        name = files[annotation["image_id"]]
        pixels = decode((tmp_path / "out" / "images" / "train" / name).read_bytes(), name)
        keypoints = np.array(annotation["keypoints"], np.float64).reshape(-1, 3)
        seen += check(pixels, keypoints + [0.5, 0.5, 0.0] * (keypoints[:, 2:] > 0), 0.75)
    assert seen >= 4
