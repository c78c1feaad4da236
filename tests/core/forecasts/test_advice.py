"""Notes on pipelines that are allowed but seldom meant, and differences between two pipelines."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import read_dataset
from varlen.forecasts.advice import advice_on
from varlen.pipeline.document import differences, from_json

from tests.conftest import make_pipeline, write_coco


def kinds(dataset: Dataset, *steps: dict[str, Any], **marks: list[str]) -> set[tuple[str, str]]:
    found = {(note.kind, note.step) for note in advice_on(dataset, make_pipeline(*steps), marks)}
    return {note for note in found if note[0] != "never-varies"}  # of that see tests/core/steps/test_varies.py


@pytest.mark.parametrize(
    ("steps", "expected"),
    [
        ([{"step": "flip", "direction": "vertical"}], {("vertical-flip", "flip")}),
        ([{"step": "flip", "direction": "horizontal"}], set()),
        ([{"step": "rotate", "degrees": [-5, 5], "scope": "every"}], {("random-everywhere", "rotate")}),
        ([{"step": "flip", "direction": "horizontal", "scope": "every", "probability": 0.5}], {("random-everywhere", "flip")}),
        ([{"step": "resize", "width_px": 320, "height_px": 240, "scope": "every"}], set()),
        ([{"step": "resize", "width_px": 320, "height_px": 240}, {"step": "rotate", "degrees": [-5, 5]}], {("resize-early", "resize")}),
        ([{"step": "noise"}, {"step": "resize", "width_px": 320, "height_px": 240}], {("noise-resized", "noise")}),
        ([{"step": "compress"}, {"step": "noise"}], {("noise-late", "compress")}),
        ([{"step": "noise"}, {"step": "compress"}], set()),
        ([{"step": "blur", "sigma_px": [0, 40]}], {("blur-wide", "blur")}),
        ([{"step": "blur", "sigma_px": [0, 1]}], set()),
        ([{"step": "rotate", "degrees": [45, 45], "edges": "solid"}], {("blank", "")}),
    ],
)
def test_what_is_seldom_meant_is_noted_and_nothing_else(survey: Dataset, steps: list[dict[str, Any]], expected: set[tuple[str, str]]) -> None:
    assert kinds(survey, *steps) == expected
    for note in advice_on(survey, make_pipeline(*steps)):
        assert note.says
        assert note.why


def test_marks_of_classes(survey: Dataset) -> None:
    flip, tilt = {"step": "flip", "direction": "horizontal"}, {"step": "rotate", "degrees": [-10, 10]}
    strong = {"step": "rotate", "degrees": [-40, 10]}
    ash = {"ash veil": ["not-mirrored"]}
    assert kinds(survey, flip, **ash) == {("not-mirrored", "flip")}
    assert kinds(survey, tilt, **ash) == set()
    assert kinds(survey, tilt, **{"ash veil": ["upright"]}) == set()
    assert ("upright", "rotate") in kinds(survey, strong, **{"ash veil": ["upright"]})
    assert kinds(survey, {"step": "flip", "direction": "horizontal", "enabled": False}, **ash) == set()


def test_loose_boxes_and_keypoints_without_partners(tmp_path: Path) -> None:
    """Boxes alone, turned by 45°, grow by much; “left” without a “right” can't be mirrored."""
    image = {"id": 1, "file_name": "a.png", "width": 200, "height": 200, "pixels": np.zeros((200, 200, 3), np.uint8)}
    box = {"id": 1, "image_id": 1, "category_id": 1, "bbox": [80, 80, 40, 40], "area": 1600, "iscrowd": 0, "keypoints": [100, 100, 2]}
    write_coco(tmp_path, [image], [box], categories=[{"id": 1, "name": "moth", "keypoints": ["left eye"], "skeleton": []}])
    dataset = read_dataset(tmp_path)
    assert ("no-pairs", "flip") in kinds(dataset, {"step": "flip", "direction": "horizontal"})
    assert ("loose-boxes", "rotate") in kinds(dataset, {"step": "rotate", "degrees": [45, 45], "edges": "mirror"})
    assert ("loose-boxes", "rotate") not in kinds(dataset, {"step": "rotate", "degrees": [1, 1], "edges": "mirror"})


STEPS = [{"step": "flip"}, {"step": "rotate"}, {"step": "blur"}, {"step": "noise"}, {"step": "resize", "width_px": 64, "height_px": 64}]


@given(st.permutations(range(5)), st.sets(st.integers(0, 4)), st.integers(0, 3))
def test_differences_name_exactly_what_differs(order: list[int], kept: set[int], seed: int) -> None:
    base = from_json({"varlen_pipeline": 1, "steps": STEPS}).to_json()
    changed = from_json({"varlen_pipeline": 1, "seed": seed, "steps": [STEPS[n] for n in order if n in kept]}).to_json()
    found = differences(base, changed)
    assert {each.step for each in found if each.kind == "removed"} == {STEPS[n]["step"] for n in range(5) if n not in kept}
    assert any(each.kind == "moved" for each in found) == ([n for n in order if n in kept] != sorted(kept))
    assert any(each.kind == "pipeline" for each in found) == (base["seed"] != seed)
    assert not any(each.kind in ("changed", "added") for each in found)
    back = differences(changed, base)
    assert {each.step for each in back if each.kind == "added"} == {each.step for each in found if each.kind == "removed"}
    assert differences(base, base) == []


def test_a_changed_value_is_said_with_both_values() -> None:
    before = from_json({"varlen_pipeline": 1, "steps": [{"step": "rotate", "degrees": [-5, 5]}]}).to_json()
    after = from_json({"varlen_pipeline": 1, "labels": {"keep_share": 0.5}, "steps": [{"step": "rotate", "degrees": [-12, 12.5]}]}).to_json()
    head, step = differences(before, after)
    assert head.lines == ["labels.keep_share 0.25 → 0.5"]
    assert (step.kind, step.step, step.lines) == ("changed", "rotate", ["degrees [-5, 5] → [-12, 12.5]"])


def test_a_rare_class_that_gets_rarer_is_told() -> None:
    """Small objects of one class are lost when the picture is made small; those of the other stay."""
    import numpy as np
    from varlen.datasets.array_labels import Labels
    from varlen.datasets.dataset import Dataset

    def labels(rare: bool) -> Labels:
        small = [[10 * n, 4, 10 * n + 5, 9] for n in range(3)] if rare else []
        return Labels(boxes=[[20, 40, 90, 90], [100, 40, 170, 90], *small], classes=["big", "big", *["small"] * len(small)])

    pictures = [(f"night_{n}", np.zeros((100, 200, 3), np.uint8), labels(n % 3 == 0)) for n in range(40)]
    found = advice_on(Dataset.from_arrays(pictures), make_pipeline({"step": "resize", "width_px": 60, "height_px": 30}))
    assert [each.says for each in found if each.kind == "rarer"] == ["small, a rare class, gets rarer: 0% of its objects are kept, of all 66%."]
    assert not [each for each in advice_on(Dataset.from_arrays(pictures), make_pipeline({"step": "flip"})) if each.kind in ("rarer", "one-class")]
