"""Label rules as properties over random objects and random moves."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from varlen.datasets.dataset import Dataset
from varlen.datasets.entry import Entry
from varlen.datasets.skeleton import Skeleton
from varlen.datasets.sources import Folder
from varlen.model.geometry import Size
from varlen.model.objects import Mask, Objects, Part, make_objects
from varlen.render.renderer import Renderer

from tests.conftest import make_pipeline, write_coco

SIZE = Size(120, 90)
SKELETON = Skeleton(("head", "left wing", "right wing"), ((0, 1), (0, 2)))
COORDINATE = st.floats(2, 88)


@st.composite
def blobs(draw: st.DrawFn) -> Objects:
    """One to four convex outlines with keypoints inside, every second one as a mask."""
    polygons, masks, boxes, keypoints = [], [], [], []
    for number in range(draw(st.integers(1, 4))):
        x, y = draw(st.floats(8, 112)), draw(st.floats(8, 82))
        radii = draw(st.lists(st.floats(3.5, 7.5), min_size=8, max_size=8))
        ring = np.array([[x + r * np.cos(a), y + r * np.sin(a)] for r, a in zip(radii, np.arange(8) * np.pi / 4, strict=True)])
        points = [[x, y, 2], [*(ring[0] * 0.5 + np.array([x, y]) * 0.5), 2], [*(ring[4] * 0.5 + np.array([x, y]) * 0.5), 1]]
        mask = None
        if number % 2:
            grid_y, grid_x = np.mgrid[0:90, 0:120] + 0.5
            mask = Mask.tight(shapely.contains_xy(shapely.Polygon(ring), grid_x, grid_y).astype(np.uint8))
        masks.append(mask)
        polygons.append(None if mask else (Part(ring),))
        boxes.append(list(mask.box) if mask else [*ring.min(0), *ring.max(0)])
        keypoints.append(points)
    count = len(boxes)
    return make_objects([str(n) for n in range(count)], "a.png", [0] * count, boxes, polygons, masks, keypoints, [False] * count, [{}] * count)


def dataset_of(objects: Objects) -> Dataset:
    return Dataset("blobs", ["blob"], [Entry("a.png", "train", SIZE, objects)], Folder(Path()), SKELETON, digests={"a.png": "0" * 64})


MOVES = st.lists(
    st.sampled_from(
        [
            {"step": "flip", "direction": "either"},
            {"step": "rotate", "degrees": [-60, 60], "frame": "keep"},
            {"step": "rotate", "degrees": [-180, 180], "frame": "grow"},
            {"step": "rotate", "degrees": [-30, 30], "frame": "zoom", "edges": "mirror"},
            {"step": "crop", "mode": "random", "area_fraction": [0.3, 1]},
            {"step": "resize", "width_px": 160, "height_px": 100},
            {"step": "resize", "width_px": 70, "height_px": 70, "fit": "cover"},
            {"step": "mosaic"},
            {"step": "quarter_turn"},
            {"step": "shear", "x_degrees": [-30, 30]},
            {"step": "scale", "factor": [0.5, 2], "edges": "wrap"},
            {"step": "perspective", "corner_fraction": [0.15, 0.15]},
            {"step": "elastic", "strength_fraction": [0.06, 0.06], "spacing_fraction": 0.2},
            {"step": "pad", "multiple_px": 70},
            {"step": "cutout", "size_fraction": [0.1, 0.5]},
            {"step": "rotate", "degrees": [-30, 30], "within": "objects"},
        ]
    ),
    min_size=1,
    max_size=4,
)


@settings(max_examples=150)
@given(blobs(), MOVES, st.integers(0, 10**6), st.floats(0, 0.9))
def test_every_object_ends_in_the_frame_or_is_accounted_for(objects: Objects, moves: list[dict], seed: int, keep_share: float) -> None:
    renderer = Renderer(dataset_of(objects), make_pipeline(*moves, seed=seed, labels={"keep_share": keep_share, "keep_side_px": 1}))
    outcome = renderer.variant_labels("a.png", 1)
    after, outcomes = outcome.objects, outcome.trace["objects"]
    assert np.isfinite(after.boxes).all()
    assert np.isfinite(after.keypoints).all()
    assert outcomes["kept"] + outcomes["clipped"] == len(after)
    if not any(move["step"] == "mosaic" for move in moves):
        assert len(after) + len(outcomes["dropped"]) == len(objects)
    step_ids = {step.id for step in renderer.pipeline.steps} | {"source"}
    assert all(outcome["step"] in step_ids and outcome["reason"] for outcome in outcomes["dropped"])
    # Bent and covered points move by themselves; outlines bend between their points.
    bent = 0.5 * sum(move["step"] == "elastic" for move in moves)
    width, height = outcome.size
    for place in range(len(after)):
        x0, y0, x1, y1 = after.boxes[place]
        assert 0 <= x0 < x1 <= width
        assert 0 <= y0 < y1 <= height
        assert keep_share - 0.05 <= after.share[place] <= 1 + 1e-9
        for x, y, visibility in after.keypoints[place]:
            if visibility:
                # A mask's outermost pixels are a pixel wide, so its box may miss a point by that much.
                slack = 1.6 if after.masks[place] else 1e-6
                slack += bent
                assert x0 - slack <= x <= x1 + slack
                assert y0 - slack <= y <= y1 + slack


@settings(max_examples=40)
@given(blobs(), st.sampled_from(["horizontal", "vertical", "both"]))
def test_flipping_twice_is_identity(objects: Objects, direction: str) -> None:
    flip = {"step": "flip", "direction": direction}
    after = Renderer(dataset_of(objects), make_pipeline(flip, flip)).variant_labels("a.png", 1).objects
    assert np.allclose(after.boxes, objects.boxes, atol=1e-12)
    assert np.allclose(after.keypoints, objects.keypoints, atol=1e-12)


@settings(max_examples=30)
@given(blobs())
def test_a_mirror_swaps_left_and_right(objects: Objects) -> None:
    after = Renderer(dataset_of(objects), make_pipeline({"step": "flip"})).variant_labels("a.png", 1).objects
    assert np.allclose(after.keypoints[:, [0, 2, 1], 0], SIZE.width - objects.keypoints[:, :, 0])
    turned = Renderer(dataset_of(objects), make_pipeline({"step": "flip", "direction": "both"})).variant_labels("a.png", 1).objects
    assert np.allclose(turned.keypoints[:, :, 0], SIZE.width - objects.keypoints[:, :, 0])


@settings(max_examples=60)
@given(blobs(), st.floats(-180, 180))
def test_boxes_fit_the_turned_outline_and_not_the_turned_box(objects: Objects, degrees: float) -> None:
    after = Renderer(
        dataset_of(objects), make_pipeline({"step": "rotate", "degrees": [degrees, degrees], "frame": "grow"}, labels={"keep_side_px": 0})
    )
    after = after.variant_labels("a.png", 1).objects
    for place in range(len(after)):
        polygon = after.polygons[place]
        if polygon and after.share[place] == 1:
            points = np.concatenate([part.outline for part in polygon])
            if degrees % 90:
                assert np.allclose(after.boxes[place], [*points.min(0), *points.max(0)], atol=1e-9)
            before = objects.polygons[int(after.ids[place])] or ()
            assert shapely.Polygon(points).area == pytest.approx(shapely.Polygon(before[0].outline).area, rel=1e-9)


def box_only(tmp_path: Path, box: list[float]) -> Dataset:
    from varlen.datasets.formats import read_dataset

    image = {"id": 1, "file_name": "a.png", "width": 120, "height": 90, "pixels": np.zeros((90, 120, 3), np.uint8)}
    x0, y0, x1, y1 = box
    annotation = {"id": 1, "image_id": 1, "category_id": 1, "bbox": [x0, y0, x1 - x0, y1 - y0]}
    return read_dataset(write_coco(tmp_path, [image], [annotation], categories=[{"id": 1, "name": "moth"}]))


def test_box_fit_rules_for_boxes_alone(tmp_path: Path) -> None:
    dataset = box_only(tmp_path, [40, 30, 80, 60])
    turn = {"step": "rotate", "degrees": [45, 45], "frame": "grow"}
    corners = Renderer(dataset, make_pipeline(turn)).variant_labels("images/train/a.png", 1).objects
    ellipse = Renderer(dataset, make_pipeline(turn, labels={"box_fit": "ellipse"})).variant_labels("images/train/a.png", 1).objects
    side = (40 + 30) / np.sqrt(2)
    assert np.allclose(corners.boxes[0, 2:] - corners.boxes[0, :2], side)
    assert np.allclose(ellipse.boxes[0, 2:] - ellipse.boxes[0, :2], np.sqrt(40**2 + 30**2) / np.sqrt(2))
    assert corners.growth[0] == pytest.approx(side**2 / (40 * 30))


@pytest.mark.parametrize(
    ("box", "keep_share", "outcome", "step"),
    [
        ([100, 10, 118, 40], 0.25, "dropped", "part"),
        ([20, 20, 60, 60], 0.25, "kept", ""),
        ([40, 20, 80, 60], 0.25, "clipped", "part"),
        ([40, 20, 80, 60], 0.6, "dropped", "part"),
        ([20, 20, 22, 60], 0.25, "dropped", "source"),
    ],
)
def test_keep_clip_drop_and_who_is_to_blame(tmp_path: Path, box: list[float], keep_share: float, outcome: str, step: str) -> None:
    dataset = box_only(tmp_path, box)
    part = {"id": "part", "step": "crop", "mode": "window", "width_px": 60, "height_px": 90, "scope": "train"}
    pipeline = make_pipeline({"id": "mirror", "step": "flip", "direction": "vertical"}, part, labels={"keep_share": keep_share})
    outcomes = Renderer(dataset, pipeline).variant_labels("images/train/a.png", 1).trace["objects"]
    blamed = outcomes["dropped"] + outcomes["clipped_by"]
    assert {"kept": outcomes["kept"], "clipped": outcomes["clipped"], "dropped": len(outcomes["dropped"])}[outcome] == 1
    assert [outcome["step"] for outcome in blamed] == ([step] if step else [])
