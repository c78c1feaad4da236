"""Advice at its limits: said just past each, not said just short of it, and always of the step it is about."""

from __future__ import annotations

from typing import Any

import pytest
from varlen.datasets.skeleton import Skeleton
from varlen.forecasts.advice import Advice, advice_on
from varlen.model.geometry import Size

from tests.conftest import make_pipeline
from tests.core.scenes import polygon, scene, square

PAIRED = Skeleton(("left tip", "right tip"), ((0, 1),))


def box(x: float, y: float, wide: float, high: float, **more: Any) -> dict[str, Any]:
    return {"box": [x, y, x + wide, y + high], **more}


def said(dataset: Any, *steps: dict[str, Any], **marks: list[str]) -> dict[str, Advice]:
    return {
        advice.kind: advice
        for advice in advice_on(dataset, make_pipeline(*steps), {name.replace("_", " "): words for name, words in marks.items()})
        if advice.kind != "never-varies"
    }


ONE = scene({"a": [box(30, 30, 20, 40)], "b": [box(10, 10, 10, 30)]})


@pytest.mark.parametrize(("sigma", "wide"), [(4.3, True), (4.2, False)])
def test_a_blur_is_wide_beyond_the_smallest_objects(sigma: float, wide: bool) -> None:
    """A Gaussian is 2.355 σ wide at half its height: 9.9 px for σ = 4.2, 10.1 px for σ = 4.3."""
    small = scene({"a": [box(30, 30, 10, 40)], "b": [box(10, 10, 10, 30)]})
    found = said(small, {"step": "blur", "sigma_px": [0, sigma]})
    assert ("blur-wide" in found) is wide
    if wide:
        assert found["blur-wide"].says == "Blurred over 10 px, while the smallest objects are 10 px."


def test_a_dataset_without_objects_has_nothing_to_smear() -> None:
    assert "blur-wide" not in said(scene({"a": [], "b": []}), {"step": "blur", "sigma_px": [0, 50]})


@pytest.mark.parametrize(("degrees", "strong"), [([-15, 15], False), ([-15.1, 0], True), ([0, 15.1], True)])
def test_a_tilt_up_to_fifteen_degrees_leaves_things_upright(degrees: list[float], strong: bool) -> None:
    assert ("upright" in said(ONE, {"step": "rotate", "degrees": degrees}, ash_veil=["upright"])) is strong


@pytest.mark.parametrize(
    ("direction", "kinds"),
    [
        ("horizontal", {"not-mirrored"}),
        ("vertical", {"not-mirrored", "upright"}),
        ("both", {"not-mirrored", "upright"}),
        ("either", {"not-mirrored", "upright"}),
    ],
)
def test_marks_against_flips(direction: str, kinds: set[str]) -> None:
    found = said(ONE, {"step": "flip", "direction": direction}, ash_veil=["upright", "not-mirrored"])
    assert set(found) == kinds
    assert all(advice.step == "flip" for advice in found.values())


def test_at_most_three_classes_are_named() -> None:
    found = said(ONE, {"step": "flip"}, ash_veil=["not-mirrored"], copper_hook=["not-mirrored"])
    assert found["not-mirrored"].says == "ash veil, copper hook: must not be mirrored."
    assert said(ONE, {"step": "flip"}, something_else=["not-mirrored"]) == {}


@pytest.mark.parametrize(
    ("names", "pairs", "kinds"),
    [
        (("left tip", "right tip"), "vertical", {"vertical-flip"}),
        (("left tip", "right tip"), "horizontal", set()),
        (("left tip", "head"), "horizontal", {"no-pairs"}),
        (("leftover", "head"), "vertical", set()),
        (("tip-Left", "head"), "horizontal", {"no-pairs"}),
    ],
)
def test_keypoints_of_two_sides(names: tuple[str, str], pairs: str, kinds: set[str]) -> None:
    points = [[40.0, 40.0, 2.0], [45.0, 40.0, 2.0]]
    dataset = scene({"a": [box(30, 30, 20, 40, points=points)]}, skeleton=Skeleton(names, ((0, 1),)))
    found = said(dataset, {"step": "flip", "direction": pairs})
    assert set(found) == kinds
    if "no-pairs" in kinds:
        assert found["no-pairs"].says.startswith(f"Keypoints such as “{names[0]}”")


@pytest.mark.parametrize(
    ("step", "random"),
    [
        ({"step": "rotate", "degrees": [3, 3], "scope": "every"}, False),
        ({"step": "rotate", "degrees": [3, 4], "scope": "every"}, True),
        ({"step": "rotate", "degrees": [3, 4], "scope": "train"}, False),
        ({"step": "flip", "scope": "every", "probability": 1}, False),
        ({"step": "flip", "scope": "every", "probability": 0.99}, True),
        ({"step": "crop", "mode": "centre", "scope": "every"}, False),
        ({"step": "resize", "width_px": 90, "height_px": 70, "scope": "every", "probability": 0.5}, True),
    ],
)
def test_chance_belongs_to_training(step: dict[str, Any], random: bool) -> None:
    assert ("random-everywhere" in said(ONE, step)) is random


SMALLER = {"step": "resize", "width_px": 50, "height_px": 40}


@pytest.mark.parametrize(
    ("steps", "expected"),
    [
        ([SMALLER, {"step": "rotate", "degrees": [1, 1]}], ("resize-early", "resize")),
        ([SMALLER, {"step": "crop", "mode": "centre"}], None),
        ([SMALLER, {"step": "pad", "multiple_px": 32}], None),
        ([{"step": "rotate", "degrees": [1, 1]}, SMALLER], None),
        ([SMALLER, {"step": "rotate", "degrees": [1, 1], "enabled": False}], None),
        ([{"step": "noise"}, SMALLER], ("noise-resized", "noise")),
        ([SMALLER, {"step": "noise"}], None),
        ([{"step": "compress"}, {"step": "noise"}], ("noise-late", "compress")),
    ],
)
def test_the_order_of_steps(steps: list[dict[str, Any]], expected: tuple[str, str] | None) -> None:
    found = [(advice.kind, advice.step) for advice in advice_on(ONE, make_pipeline(*steps)) if advice.kind != "never-varies"]
    assert found == ([expected] if expected else [])


@pytest.mark.parametrize(("share", "much"), [(0.12, True), (0.08, False)])
def test_a_tenth_of_the_picture_blank_is_much(share: float, much: bool) -> None:
    """A shift by this share of the width leaves just as much of the picture blank."""
    found = said(ONE, {"step": "shift", "x_fraction": [share, share], "y_fraction": [0, 0], "edges": "solid"})
    assert ("blank" in found) is much
    if much:
        assert found["blank"].says == "12% of the average picture is blank."


@pytest.mark.parametrize(("degrees", "loose"), [(3.9, False), (5.0, True)])
def test_boxes_grow_loose_when_turned(degrees: float, loose: bool) -> None:
    """A square turned by φ gets a box of (sin φ + cos φ)² = 1 + sin 2φ times its area: 15 % more at 4.31°."""
    dataset = scene({"a": [box(40, 30, 20, 20)]})
    turn = {"step": "rotate", "degrees": [degrees, degrees], "edges": "mirror"}
    assert ("loose-boxes" in said(dataset, turn)) is loose
    outlined = scene({"a": [{"polygon": polygon(square(40, 30, 60, 50))}]})
    assert "loose-boxes" not in said(outlined, turn)


def test_a_picture_that_can_t_be_made_stops_no_advice() -> None:
    """The smaller of two pictures lies outside the crop's window; what the other shows is said all the same."""
    dataset = scene({"a": [], "b": []}, b=Size(20, 20))
    cut = {"step": "crop", "mode": "window", "left_px": 50, "top_px": 0, "width_px": 40, "height_px": 40, "scope": "train"}
    found = said(dataset, cut, {"step": "shift", "x_fraction": [0.5, 0.5], "y_fraction": [0, 0], "edges": "solid"})
    assert found["blank"].says == "50% of the average picture is blank."


def test_each_image_examined_gives_way_first() -> None:
    pauses: list[int] = []
    advice_on(ONE, make_pipeline({"step": "flip"}), pause=lambda: pauses.append(1))
    assert len(pauses) == 2
