"""Forecast and export against a reference of its own: Shapely areas and plain NumPy, from nothing but the values in the traces."""

from __future__ import annotations

import math
from collections import Counter
from typing import Any

import numpy as np
import shapely
from shapely import affinity
from varlen.datasets.dataset import Dataset
from varlen.forecasts.label_forecast import count_draws
from varlen.render.renderer import Renderer

from tests.conftest import make_pipeline
from tests.core.scenes import SIZE, Row, polygon, ring, scene, square

STEPS: list[dict[str, Any]] = [
    {"step": "flip", "probability": 0.5},
    {"step": "rotate", "degrees": [-60, 60]},
    {"step": "scale", "factor": [0.5, 2.0]},
    {"step": "shift", "x_fraction": [-0.4, 0.4], "y_fraction": [-0.4, 0.4]},
]
KEEP_SHARE, KEEP_SIDE = 0.4, 9.0
FRAME = shapely.box(0, 0, *SIZE)
CENTRE = (SIZE.width / 2, SIZE.height / 2)
ROWS: list[Row] = [
    {"box": [10.0, 10.0, 40.0, 30.0]},
    {"polygon": polygon(square(50, 40, 90, 70), holes=(square(60, 45, 80, 65),)), "class": 1},
    {"polygon": polygon(ring((5, 60), (20, 50), (30, 75)), square(70, 5, 95, 20))},
    {"box": [45.0, 35.0, 55.0, 45.0], "crowd": True, "class": 1},
]


def moved(shape: Any, steps: list[dict[str, Any]]) -> Any:
    """A shape through the drawn moves, by Shapely's own: y points down, so a turn counter-clockwise as seen has a negative angle there."""
    drawn = {step["id"]: step["drawn"] for step in steps if step["fired"]}
    if "flip" in drawn:
        shape = affinity.scale(shape, -1, 1, origin=CENTRE)
    shape = affinity.rotate(shape, -drawn["rotate"]["degrees"], origin=CENTRE)
    shape = affinity.scale(shape, drawn["scale"]["factor"], drawn["scale"]["factor"], origin=CENTRE)
    # A shift is by whole pixels.
    return affinity.translate(shape, round(drawn["shift"]["x_fraction"] * SIZE.width), round(drawn["shift"]["y_fraction"] * SIZE.height))


def shape_of(row: Row) -> Any:
    if "polygon" not in row:
        return shapely.box(*row["box"])
    return shapely.union_all([shapely.Polygon(part.outline, part.holes) for part in row["polygon"]])


def outcome_of(row: Row, steps: list[dict[str, Any]]) -> tuple[str, tuple[float, ...]]:
    """kept, clipped, lost or small; and the box."""
    whole = moved(shape_of(row), steps)
    if "polygon" in row:
        left = whole.intersection(FRAME)
        share, box = left.area / whole.area, left.bounds
    else:
        # Of a box alone only the box around its turned corners is known.
        whole = shapely.box(*whole.bounds)
        left = whole.intersection(FRAME)
        share, box = left.area / whole.area, left.bounds
    if share <= 0 or (share < KEEP_SHARE and not row.get("crowd")):
        return "lost", ()
    if min(box[2] - box[0], box[3] - box[1]) < KEEP_SIDE:
        return "small", ()
    return ("clipped" if share < 1 - 1e-9 else "kept"), box


def test_labels_of_an_export_and_counts_of_a_forecast_are_those_of_a_reference() -> None:
    dataset: Dataset = scene({"a": ROWS})
    renderer = Renderer(dataset, make_pipeline(*STEPS, seed=3, labels={"keep_share": KEEP_SHARE, "keep_side_px": KEEP_SIDE}))
    count = 400
    expected, kept = Counter[tuple[str, int]](), Counter[str]()
    for variant in range(1, count + 1):
        found = renderer.variant_labels("a", variant)
        boxes = dict(zip(found.objects.ids, found.objects.boxes.tolist(), strict=True))
        clipped = {each["id"] for each in found.trace["objects"]["clipped_by"]}
        dropped = {each["id"]: each["reason"] for each in found.trace["objects"]["dropped"]}
        for place, row in enumerate(ROWS):
            word, box = outcome_of(row, found.trace["steps"])  # type: ignore[arg-type]
            name = str(place)
            if name in dropped:
                said = "small" if dropped[name].startswith("shorter") else "lost"
            else:
                said = "clipped" if name in clipped else "kept"
            assert said == word, (variant, name)
            if box:
                assert np.allclose(boxes[name], box, atol=1e-6), (variant, name)
                kept[dataset.classes[row.get("class", 0)]] += 1
            expected[word, row.get("class", 0)] += 1
    assert min(expected["lost", 0], expected["clipped", 0], expected["small", 0], expected["kept", 0], expected["clipped", 1]) > 5
    tally = count_draws(renderer, count)
    assert tally.variants == count
    assert tally.kept == kept
    assert tally.clipped.total() == expected["clipped", 0] + expected["clipped", 1]
    assert tally.dropped.total() == sum(expected[word, cls] for word in ("lost", "small") for cls in (0, 1))
    assert sum(tally.before.values()) == count * len(ROWS)


def test_a_box_s_growth_is_how_much_its_turned_corners_enclose() -> None:
    renderer = Renderer(scene({"a": [{"box": [40.0, 30.0, 60.0, 50.0]}]}), make_pipeline({"step": "rotate", "degrees": [30, 30]}))
    objects = renderer.variant_labels("a", 1).objects
    turned = math.cos(math.radians(30)) + math.sin(math.radians(30))
    assert np.allclose(objects.boxes, [[50 - 10 * turned, 40 - 10 * turned, 50 + 10 * turned, 40 + 10 * turned]])
    assert np.allclose(objects.growth, turned**2)
    upright = Renderer(scene({"a": [{"box": [40.0, 30.0, 60.0, 50.0]}]}), make_pipeline({"step": "scale", "factor": [1.5, 1.5]}))
    assert upright.variant_labels("a", 1).objects.growth.tolist() == [1.0]
