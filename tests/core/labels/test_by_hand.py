"""Labels whose answers are worked out by hand: what is left of an object, when it is dropped, and why."""

from __future__ import annotations

import numpy as np
import pytest
from varlen.datasets.skeleton import Skeleton
from varlen.model.geometry import Size

from tests.core.scenes import Row, block, polygon, scene, square, through, window

LEFT_HALF = window(0, 0, 50, 80)


@pytest.mark.parametrize(
    ("box", "outcome"),
    [
        ([0, 10, 40, 30], None),
        ([10, 10, 50, 30], None),  # ends exactly where the frame does
        ([10, 10, 50 + 1e-8, 30], None),  # a rounding beyond it
        ([10, 10, 50.001, 30], ("clipped", "cut by the frame", "crop", 1.0)),
        ([40, 10, 80, 30], ("clipped", "cut by the frame", "crop", 0.25)),  # exactly a quarter is left
        ([40.001, 10, 80, 30], ("dropped", "less than 25 % left", "crop", 0.25)),  # a hair less
        ([49.999, 10, 80, 30], ("dropped", "less than 25 % left", "crop", 0.0)),
        ([50, 10, 80, 30], ("dropped", "outside the frame", "crop", 0.0)),
        ([60, 10, 80, 30], ("dropped", "outside the frame", "crop", 0.0)),
    ],
)
def test_a_box_cut_by_the_frame(box: list[float], outcome: tuple | None) -> None:
    objects, said = through(scene({"a": [{"box": box}]}), LEFT_HALF, keep_side_px=0)
    assert said.get("0") == outcome
    if outcome is None or outcome[0] == "clipped":
        assert np.allclose(objects.boxes, [[box[0], box[1], min(box[2], 50), box[3]]])
        assert objects.share[0] == pytest.approx((min(box[2], 50) - box[0]) / (box[2] - box[0]))
    else:
        assert len(objects) == 0


@pytest.mark.parametrize("rule", [0.0, 0.25, 1.0])
def test_the_keep_rule_s_share(rule: float) -> None:
    rows: list[Row] = [{"box": [0, 0, 50, 8]}, {"box": [30, 10, 80, 18]}, {"box": [49, 20, 89, 28]}, {"box": [60, 30, 90, 38]}]
    objects, said = through(scene({"a": rows}), LEFT_HALF, keep_share=rule, keep_side_px=0)
    kept = {0.0: ("0", "1", "2"), 0.25: ("0", "1"), 1.0: ("0",)}[rule]  # 1, 0.4, 0.025 and nothing of them are left
    assert objects.ids == kept
    assert said["3"] == ("dropped", "outside the frame", "crop", 0.0)
    reason = f"less than {rule * 100:g} % left"
    assert {name: what[1] for name, what in said.items() if what[0] == "dropped" and name != "3"} == dict.fromkeys({"1", "2"} - {*kept}, reason)


@pytest.mark.parametrize(
    ("side", "scale", "outcome"),
    [
        (3.0, 1.0, None),  # exactly the limit
        (2.999, 1.0, ("dropped", "shorter side under 3 px", "source", 1.0)),
        (6.0, 0.5, None),
        (5.998, 0.5, ("dropped", "shorter side under 3 px", "shrink", 1.0)),
        (2.0, 2.0, None),  # small in the source, large enough where it counts
    ],
)
def test_the_keep_rule_s_shorter_side(side: float, scale: float, outcome: tuple | None) -> None:
    rows: list[Row] = [{"box": [40, 32, 40 + side, 50]}, {"box": [40, 40, 60, 40 + side], "id": "flat"}]
    objects, said = through(scene({"a": rows}), {"step": "scale", "id": "shrink", "factor": [scale, scale]})
    assert said.get("0") == said.get("flat") == outcome
    assert len(objects) == (2 if outcome is None else 0)


def test_a_small_object_is_blamed_on_the_step_that_shrank_it_and_not_on_a_later_one() -> None:
    steps = [
        {"step": "scale", "id": "first", "factor": [0.5, 0.5]},
        {"step": "scale", "id": "second", "factor": [0.9, 0.9]},
        {"step": "flip", "id": "last"},
    ]
    _, said = through(scene({"a": [{"box": [40, 40, 45, 60]}]}), *steps)
    assert said["0"][1:3] == ("shorter side under 3 px", "first")
    _, said = through(scene({"a": [{"box": [40, 40, 45, 60]}]}), {"step": "blur", "id": "soft", "sigma_px": [1, 1]}, *steps[1:])
    assert said == {}  # 4.5 px are enough


def test_regions_of_many_stay_for_as_long_as_anything_is_in_sight() -> None:
    rows: list[Row] = [{"box": [49.9, 10, 99.9, 30], "crowd": True}, {"box": [50, 40, 99, 60], "crowd": True}]
    objects, said = through(scene({"a": rows}), LEFT_HALF, keep_side_px=0)
    assert objects.ids == ("0",)
    assert objects.crowd.tolist() == [True]
    assert said["0"] == ("clipped", "cut by the frame", "crop", 0.002)
    assert said["1"] == ("dropped", "outside the frame", "crop", 0.0)


@pytest.mark.parametrize(("rule", "kept"), [(0.41, True), (0.42, False)])
def test_a_hole_counts_neither_before_nor_after(rule: float, kept: bool) -> None:
    """1600 less 400 px² of hole; left of x = 30 are 800 less 300: 5/12."""
    row = {"polygon": polygon(square(10, 10, 50, 50), holes=(square(15, 20, 35, 40),))}
    objects, said = through(scene({"a": [row]}), window(0, 0, 30, 80), keep_share=rule)
    assert said["0"][0] == ("clipped" if kept else "dropped")
    assert said["0"][3] == pytest.approx(5 / 12, abs=1e-4)
    if kept:
        assert objects.boxes.tolist() == [[10, 10, 30, 50]]
        assert sum(part.outline[:, 0].max() for part in objects.polygons[0] or ()) == 30


def test_a_part_outside_the_frame_is_gone_and_the_box_fits_what_is_left() -> None:
    row = {"polygon": polygon(square(10, 10, 20, 20), square(50, 10, 70, 20))}
    objects, said = through(scene({"a": [row]}), LEFT_HALF)
    assert said["0"] == ("clipped", "cut by the frame", "crop", 0.3333)
    assert len(objects.polygons[0] or ()) == 1
    assert objects.boxes.tolist() == [[10, 10, 20, 20]]


def test_a_mask_is_counted_in_pixels() -> None:
    objects, said = through(scene({"a": [{"mask": block(40, 10, 20, 6)}]}), LEFT_HALF)
    assert said["0"] == ("clipped", "cut by the frame", "crop", 0.5)
    assert objects.boxes.tolist() == [[40, 10, 50, 16]]
    assert objects.masks[0] is not None
    assert objects.masks[0].pixels.shape == (6, 10)


def test_keypoints_outside_are_no_longer_labelled_and_hidden_ones_stay_hidden() -> None:
    points = [[49.99, 20, 2.0], [50, 20, 2.0], [10, 20, 1.0], [0, 0, 0.0]]
    objects, _ = through(scene({"a": [{"box": [0, 0, 50, 80], "points": points}]}), LEFT_HALF)
    assert objects.keypoints.tolist() == [[[49.99, 20, 2], [0, 0, 0], [10, 20, 1], [0, 0, 0]]]


@pytest.mark.parametrize(
    ("step", "box", "head", "tip"),
    [
        ({"step": "flip", "direction": "horizontal"}, [70, 10, 90, 40], [80, 15], [88, 30]),
        ({"step": "flip", "direction": "vertical"}, [10, 40, 30, 70], [20, 65], [12, 50]),
        ({"step": "flip", "direction": "both"}, [70, 40, 90, 70], [80, 65], [88, 50]),
        ({"step": "quarter_turn", "turns": [1]}, [10, 70, 40, 90], [15, 80], [30, 88]),
        ({"step": "quarter_turn", "turns": [2]}, [70, 40, 90, 70], [80, 65], [88, 50]),
        ({"step": "quarter_turn", "turns": [3]}, [40, 10, 70, 30], [65, 20], [50, 12]),
        ({"step": "shift", "x_fraction": [0.1, 0.1], "y_fraction": [-0.05, -0.05]}, [20, 6, 40, 36], [30, 11], [22, 26]),
        ({"step": "resize", "width_px": 50, "height_px": 40}, [5, 5, 15, 20], [10, 7.5], [6, 15]),
        ({"step": "resize", "width_px": 200, "height_px": 200, "fit": "letterbox"}, [20, 40, 60, 100], [40, 50], [24, 80]),
        ({"step": "pad", "width_px": 120, "height_px": 90}, [20, 15, 40, 45], [30, 20], [22, 35]),
    ],
)
def test_where_plain_moves_take_a_box_and_its_keypoints(step: dict, box: list[float], head: list[float], tip: list[float]) -> None:
    """One image of 100×80 px: a box 10 10 30 40 with a head at 20 15 and a left tip at 12 30; mirrors swap the tips."""
    rows: list[Row] = [{"box": [10, 10, 30, 40], "points": [[20, 15, 2], [12, 30, 2], [0, 0, 0]]}]
    dataset = scene({"a": rows}, skeleton=Skeleton(("head", "left tip", "right tip")))
    objects, said = through(dataset, {"scope": "train", **step})
    assert said == {}
    assert np.allclose(objects.boxes, [box])
    mirrored = step["step"] == "flip" and step["direction"] != "both"
    expected = [[*head, 2], [0, 0, 0], [*tip, 2]] if mirrored else [[*head, 2], [*tip, 2], [0, 0, 0]]
    assert np.allclose(objects.keypoints[0], expected)


def test_no_keypoints_and_one_keypoint_are_as_good_as_many() -> None:
    for points in ([], [[20.0, 15.0, 2.0]]):
        objects, _ = through(scene({"a": [{"box": [10, 10, 30, 40], "points": points}]}), {"step": "flip"})
        assert objects.keypoints.shape == (1, len(points), 3)
        assert objects.keypoints.tolist() == [[[80, 15, 2]] if points else []]


@pytest.mark.parametrize(
    ("areas", "outcome"),
    [
        ([[0.0, 0.0, 0.1, 0.1]], None),  # beside it
        ([[0.4, 0.25, 0.2, 0.1]], ("clipped", "partly covered", "cutout", 0.8)),  # 20×8 px of 40×20 px
        ([[0.4, 0.25, 0.3, 0.25]], ("clipped", "partly covered", "cutout", 0.25)),  # three quarters: exactly a quarter is seen
        ([[0.4, 0.25, 0.31, 0.25]], ("dropped", "covered, less than 25 % left", "cutout", 0.225)),
        ([[0.4, 0.25, 0.4, 0.25]], ("dropped", "covered", "cutout", 0.0)),
        ([[0.4, 0.25, 0.2, 0.25], [0.5, 0.25, 0.2, 0.25]], ("clipped", "partly covered", "cutout", 0.25)),  # two that overlap
    ],
)
def test_areas_painted_over_a_box_of_40_by_20(areas: list[list[float]], outcome: tuple | None) -> None:
    from varlen.labels.occlusion import hide_under_areas
    from varlen.labels.outcomes import LabelState
    from varlen.pipeline.reading import LabelRules
    from varlen.steps.cutout import Cutout

    dataset = scene({"a": [{"box": [40, 20, 80, 40], "points": [[41, 21, 2.0], [79, 39, 1.0]]}]})
    effect = Cutout(id="cutout").effect({"areas": areas, "key": 1}, Size(100, 80))
    assert effect is not None
    labels = LabelState.of(dataset.objects_of("a"))
    hide_under_areas(labels, effect.areas, "cutout", LabelRules())
    said = [(each.outcome, each.reason, each.step, round(each.share, 4)) for each in labels.outcomes()]
    assert said == ([outcome] if outcome else [])
    if outcome and outcome[0] == "clipped":
        assert labels.objects.boxes.tolist() == [[40, 20, 80, 40]]  # the object is still there, behind the area
        assert labels.objects.keypoints[0, :, 2].tolist() == [1, 1]


def test_an_object_laid_over_another_takes_its_place() -> None:
    from varlen.labels.occlusion import occlude
    from varlen.labels.outcomes import LabelState
    from varlen.pipeline.reading import LabelRules

    from tests.core.scenes import objects_of

    rows: list[Row] = [
        {"mask": block(10, 10, 40, 20), "id": "mask"},
        {"polygon": polygon(square(10, 10, 50, 30)), "id": "outline"},
        {"box": [10, 10, 50, 30], "id": "box", "points": [[20.0, 20.0, 2.0]]},
        {"mask": block(10, 12, 12, 10), "id": "gone"},
        {"box": [60, 10, 90, 30], "id": "beside"},
    ]
    labels = LabelState.of(objects_of("a", rows))
    occlude(labels, objects_of("b", [{"polygon": polygon(square(10, 10, 30, 40))}]), "paste", LabelRules())
    assert labels.objects.ids == ("mask", "outline", "box", "beside")
    assert labels.objects.boxes.tolist() == [[30, 10, 50, 30], [30, 10, 50, 30], [10, 10, 50, 30], [60, 10, 90, 30]]
    assert labels.objects.share.tolist() == [0.5, 0.5, 0.5, 1.0]
    assert labels.objects.keypoints[2].tolist() == [[20, 20, 1]]
    assert [(each.id, each.reason, each.share) for each in labels.dropped] == [("gone", "covered", 0.0)]
    assert labels.clipped == [("paste", "partly covered")] * 3 + [None]
