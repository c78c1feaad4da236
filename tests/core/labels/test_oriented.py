"""Oriented boxes: corners stay on what they mark through every geometric step, are fitted again where an object is cut, and survive files."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st
from varlen.datasets.convert import convert, losses_of
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import read_dataset
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.labels.oriented import around, is_rectangle, smallest_around
from varlen.model.geometry import Size
from varlen.model.objects import Part, make_objects
from varlen.render.renderer import Renderer

from tests.conftest import light_near, make_pipeline
from tests.core.datasets.trees import write_tree
from tests.core.render.test_dot import EXACT, RESAMPLED

WIDTH, HEIGHT = 192, 144
#: Boxes of 36×22 px: middle and degrees. The first corner is where the front begins.
TURNED = [(95.0, 70.0, 30.0), (60.0, 90.0, 100.0), (130.0, 60.0, 200.0), (96.0, 40.0, 300.0)]
#: Partners come into these, so light lies where no corner is.
MIXED = ("mosaic", "mixup")
STEPS = {name: step for name, step in (EXACT | RESAMPLED).items() if step["step"] not in MIXED}


def corners_of(x: float, y: float, degrees: float, width: float = 36.0, height: float = 22.0) -> np.ndarray[Any, np.dtype[np.float64]]:
    """Corners whose first edge is the box's top before it is turned."""
    along = np.array([math.cos(math.radians(degrees)), math.sin(math.radians(degrees))])
    across = np.array([-along[1], along[0]])
    return np.array([[x, y] + sx * along * width / 2 + sy * across * height / 2 for sx, sy in ((-1, -1), (1, -1), (1, 1), (-1, 1))])


@pytest.fixture(scope="module")
def lit(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Pictures with light of 3×3 px at each corner of one box; corners lie on middles of pixels."""
    files: dict[str, Any] = {}
    for number, turned in enumerate(TURNED):
        corners = np.floor(corners_of(*turned)) + 0.5
        pixels = np.zeros((HEIGHT, WIDTH, 3), np.uint8)
        for x, y in corners.astype(int):
            pixels[y - 1 : y + 2, x - 1 : x + 2] = 255
        files[f"images/train/{number}.png"] = pixels
        files[f"marks/{number}.txt"] = " ".join(f"{value:g}" for value in corners.ravel()) + " moth 0\n"
    return write_tree(tmp_path_factory.mktemp("lit"), files)


def lit_corners(pixels: np.ndarray[Any, Any], corners: np.ndarray[Any, Any], within: float) -> int:
    """Every corner that is well inside lies on light; returns how many were looked at."""
    seen = 0
    for x, y in corners.tolist():
        if 5 <= x <= pixels.shape[1] - 5 and 5 <= y <= pixels.shape[0] - 5:
            found = light_near(pixels, x, y)
            assert math.dist(found, (x, y)) <= within * math.sqrt(2), (found, (x, y))
            seen += 1
    return seen


@pytest.mark.parametrize("name", STEPS)
def test_light_and_corners_stay_together(lit: Path, name: str) -> None:
    dataset = read_dataset(lit)
    seen = 0
    for seed in (1, 2, 3):
        renderer = Renderer(dataset, make_pipeline(STEPS[name], seed=seed, labels={"keep_share": 0.999, "keep_side_px": 0}))
        for key in dataset.entries:
            sample, trace = renderer.render(key, 1)
            if len(sample.objects) and not trace["objects"]["clipped"]:
                seen += lit_corners(sample.pixels, sample.objects.oriented.corners[0], 1e-9 if name in EXACT else 0.5)
    assert seen >= 6


@pytest.mark.parametrize("form", ["oriented-text", "coco", "yolo-oriented"])
def test_also_through_written_files(lit: Path, tmp_path: Path, form: str) -> None:
    steps = [{"step": "flip"}, {"step": "rotate", "degrees": [-40, 40], "frame": "grow"}, {"step": "resize", "width_px": 260}]
    dataset = read_dataset(lit)
    export(dataset, make_pipeline(*steps, seed=5), tmp_path / "out", ExportSpec(variants=3, image="png", format=form), accept_loss="all")
    found = read_dataset(tmp_path / "out")
    seen = 0
    for key, entry in found.entries.items():
        assert len(entry.objects.oriented.owners) == 1
        seen += lit_corners(found.pixels(key), entry.objects.oriented.corners[0], 0.5)
    assert seen >= 48


@pytest.mark.parametrize("form", ["oriented-text", "coco", "yolo-oriented", "tar", "npz"])
def test_kept_there_and_back(lit: Path, tmp_path: Path, form: str) -> None:
    """Corners and their order, so the direction too, to 1/1000 px."""
    dataset = read_dataset(lit)
    assert losses_of(dataset, form) == []
    convert(dataset, tmp_path / "out", form)
    if form == "npz":
        arrays = np.load(tmp_path / "out" / "shards" / "train-00000.npz")
        assert np.allclose(arrays["oriented"], [entry.objects.oriented.corners[0] for entry in dataset.entries.values()])
    elif form != "tar":
        again = read_dataset(tmp_path / "out")
        for mine, theirs in zip(dataset.entries.values(), again.entries.values(), strict=True):
            assert np.abs(mine.objects.oriented.corners - theirs.objects.oriented.corners).max() < 1e-3
            assert theirs.objects.oriented.alone.all()


def test_a_mirror_keeps_the_front(lit: Path) -> None:
    """The front's middle goes where the picture's does, and corners run the same way round as before."""
    dataset = read_dataset(lit)
    for direction in ("horizontal", "vertical", "both"):
        renderer = Renderer(dataset, make_pipeline({"step": "flip", "direction": direction}))
        for key, entry in dataset.entries.items():
            before, after = entry.objects.oriented.corners[0], renderer.variant_labels(key, 1).objects.oriented.corners[0]
            front = before[:2].mean(axis=0)
            wanted = [WIDTH - front[0] if direction != "vertical" else front[0], HEIGHT - front[1] if direction != "horizontal" else front[1]]
            assert after[:2].mean(axis=0) == pytest.approx(wanted)
            assert np.sign(turning(after)) == np.sign(turning(before))


def turning(ring: np.ndarray[Any, Any]) -> float:
    following = np.roll(ring, -1, axis=0)
    return float((ring[:, 0] * following[:, 1] - following[:, 0] * ring[:, 1]).sum())


def one(corners: np.ndarray[Any, Any], outline: np.ndarray[Any, Any] | None = None) -> Dataset:
    """A picture of 100×80 px with one object."""
    from tests.core.scenes import scene

    dataset = scene({"a": []})
    box = [*corners.min(axis=0), *corners.max(axis=0)]
    objects = make_objects(["1"], "a", [0], [box], [None if outline is None else (Part(outline),)], [None], [[]], [False], [{}], [corners])
    from dataclasses import replace

    dataset.entries = {"a": replace(dataset.entries["a"], objects=objects)}
    assert dataset.size_of("a") == Size(100, 80)
    return dataset


@given(degrees=st.floats(0, 360), left=st.integers(0, 60), top=st.integers(0, 40))
def test_what_is_cut_gets_the_smallest_box_of_its_direction(degrees: float, left: int, top: int) -> None:
    """Against shapely: the box holds what is left, touches it on all four sides, and points where it pointed."""
    corners = corners_of(50, 40, degrees, 40, 18)
    step = {"step": "crop", "mode": "window", "left_px": left, "top_px": top, "width_px": 40, "height_px": 40, "scope": "train"}
    renderer = Renderer(one(corners), make_pipeline(step, labels={"keep_share": 0, "keep_side_px": 0}))
    objects = renderer.variant_labels("a", 1).objects
    visible = shapely.Polygon(corners).intersection(shapely.box(left, top, left + 40, top + 40))
    if not len(objects):
        assert visible.area < 1e-6
        return
    found = objects.oriented.corners[0] + [left, top]
    assert shapely.Polygon(found).buffer(1e-6).contains(visible)
    edge, wanted = found[1] - found[0], corners[1] - corners[0]
    if np.hypot(*edge) > 1e-6:
        assert edge / np.hypot(*edge) == pytest.approx(wanted / np.hypot(*wanted), abs=1e-6)
    for a, b in zip(found, np.roll(found, -1, axis=0), strict=True):
        assert shapely.LineString([a, b]).distance(visible) < 1e-6
    assert objects.boxes[0] + [left, top, left, top] == pytest.approx(visible.bounds, abs=1e-6)
    assert objects.outlines.points == pytest.approx(objects.oriented.corners[0])


def test_an_outline_decides_where_a_shear_leaves_no_rectangle() -> None:
    ring = np.array([[40.0, 30.0], [70.0, 30.0], [70.0, 44.0], [40.0, 44.0], [38.0, 37.0]])
    corners = np.array([[38.0, 30.0], [70.0, 30.0], [70.0, 44.0], [38.0, 44.0]])
    sheared = Renderer(one(corners, ring), make_pipeline({"step": "shear", "x_degrees": [20, 20]})).variant_labels("a", 1).objects
    assert is_rectangle(sheared.oriented.corners[0])
    outline = shapely.Polygon(sheared.outlines.points)
    assert shapely.Polygon(sheared.oriented.corners[0]).area == pytest.approx(shapely.minimum_rotated_rectangle(outline).area)
    turned = Renderer(one(corners, ring), make_pipeline({"step": "rotate", "degrees": [10, 10]})).variant_labels("a", 1).objects
    assert shapely.Polygon(turned.oriented.corners[0]).area == pytest.approx(32 * 14)
    assert not turned.oriented.alone.any()


def test_corners_around_points() -> None:
    corners = corners_of(50, 40, 33, 30, 10)
    points = np.array([[45.0, 38.0], [52.0, 41.0], [50.0, 44.0]])
    for made in (around(points, corners), smallest_around(points, corners)):
        assert is_rectangle(made)
        assert np.sign(turning(made)) == np.sign(turning(corners))
        assert shapely.Polygon(made).buffer(1e-9).covers(shapely.MultiPoint(points))
    assert around(corners, corners) == pytest.approx(corners)
    assert around(corners, corners[::-1]) == pytest.approx(corners[::-1])
    assert not is_rectangle(np.array([[0.0, 0.0], [10.0, 0.0], [12.0, 5.0], [2.0, 5.0]]))
