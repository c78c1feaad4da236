"""Narrowing and counting over columns whose every number is known."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from rest_framework.exceptions import ValidationError
from varlen_server.datasets.columns import OCTAVES, Columns, _kind, overview

#: class, width, height, visibility of head and tail; the image it is in.
THINGS = [
    (0, 4.0, 4.0, 2, 0, 0), (1, 16.0, 4.0, 1, 2, 0), (0, 8.0, 32.0, 0, 1, 1), (1, 0.0, 10.0, 2, 2, 2), (1, 3.0, 5.0, 2, 2, 2),
]  # fmt: skip
SPLITS, SIZES = ["train", "train", "test", "validation"], [(640, 480), (640, 480), (320, 240), (480, 640)]


def columns(things: list[tuple[float, ...]] | None = None, of_image: list[tuple[str, ...]] | None = None) -> Columns:
    rows = THINGS if things is None else things
    return Columns(
        ("ash veil", "copper hook"), ("head", "tail"), np.array([11, 12, 13, 14]), ["images/Dusk_1.png", "images/dusk_2.png", "night/1.png", "e.png"],
        np.array(SPLITS), np.array(SIZES),
        np.array([row[:5] for row in rows], np.float32).reshape(-1, 5), np.array([row[5] for row in rows], np.int64),
        of_image or [()] * 4, np.array(["PNG, RGB", "PNG, RGB", "PNG, gray", "JPEG, RGB"]),
    )  # fmt: skip


@pytest.mark.parametrize(
    ("asked", "rows"),
    [
        ({}, [11, 12, 13, 14]),
        ({"split": "train"}, [11, 12]),
        ({"split": "elsewhere"}, []),
        ({"name": "DUSK"}, [11, 12]),
        ({"name": "1."}, [11, 13]),
        ({"size": "640×480"}, [11, 12]),
        ({"size": "480×640"}, [14]),
        ({"kind": "PNG, gray"}, [13]),
        ({"objects": "2-2"}, [11, 13]),
        ({"objects": "0-1"}, [12, 14]),
        ({"objects": "3-9"}, []),
        ({"class": "ash veil"}, [11, 12]),
        ({"class": "copper hook"}, [11, 13]),
        ({"class": "nobody"}, []),
        ({"side": "4-8"}, [11]),
        ({"side": "8-16"}, [11]),
        ({"side": "16-17"}, [12]),
        ({"width": "0-1"}, [13]),
        ({"width": "3-4"}, [13]),
        ({"height": "32-33"}, [12]),
        ({"aspect": "4-5"}, [11]),
        ({"aspect": "0.25-1"}, [12, 13]),
        ({"keypoint": "head:hidden"}, [11]),
        ({"keypoint": "head:absent"}, [12]),
        ({"keypoint": "tail:visible"}, [11, 13]),
        ({"class": "ash veil", "side": "8-16"}, []),
        ({"class": "copper hook", "side": "8-16"}, [11]),
        ({"split": "train", "keypoint": "tail:hidden"}, [12]),
        ({"finding": "box-empty"}, [13]),
        ({"finding": "gray"}, []),
    ],
)
def test_narrowed_by_everything_asked_for(asked: dict[str, str], rows: list[int]) -> None:
    """Of the objects, one and the same has to meet all that is asked of objects."""
    findings = [{"kind": "box-empty", "places": [("night/1.png", "3")]}, {"kind": "duplicate", "places": [("e.png", "")]}]
    assert columns().chosen(asked, findings).tolist() == rows


def test_classes_of_images_go_before_those_of_objects() -> None:
    both = columns(of_image=[("copper hook",), (), (), ("copper hook",)])
    assert both.chosen({"class": "copper hook"}, []).tolist() == [11, 14]
    assert both.chosen({"class": "ash veil"}, []).tolist() == [11, 12]


@pytest.mark.parametrize(
    "asked", [{"side": "4"}, {"side": "a-b"}, {"objects": "1-2-3"}, {"keypoint": "head"}, {"keypoint": "head:seen"}, {"keypoint": "wing:hidden"}]
)
def test_what_can_t_be_asked_is_refused_by_name(asked: dict[str, str]) -> None:
    with pytest.raises(ValidationError, match=next(iter(asked))):
        columns().chosen(asked, [])


def test_the_plots_by_hand() -> None:
    found = overview(columns(of_image=[(), (), (), ("ash veil",)]))
    assert found["classes"] == [
        {"name": "ash veil", "splits": {"train": 2, "validation": 1}, "total": 3},
        {"name": "copper hook", "splits": {"train": 1, "test": 2}, "total": 3},
    ]
    assert found["sizes"] == [{"name": "640×480", "count": 2}, {"name": "320×240", "count": 1}, {"name": "480×640", "count": 1}]
    assert found["kinds"] == [{"name": "JPEG, RGB", "count": 1}, {"name": "PNG, RGB", "count": 2}, {"name": "PNG, gray", "count": 1}]
    assert found["objects"] == [{"low": n, "high": n, "count": count} for n, count in enumerate([1, 1, 2])]
    assert found["visibility"] == [{"name": "head", "absent": 1, "hidden": 1, "visible": 3}, {"name": "tail", "absent": 1, "hidden": 1, "visible": 3}]
    # Sides 4, 8, 16 and √15 = 3.87: half octaves from 2.83 px, that of 3.87, to the one from 16 px.
    assert [(each["low"], each["count"]) for each in found["sides"]] == [(2.828, 1), (4.0, 1), (5.657, 0), (8.0, 1), (11.314, 0), (16.0, 1)]
    assert found["sides"][0]["high"] == 4.0
    assert [(each["low"], each["count"]) for each in found["aspects"] if each["count"]] == [(0.25, 1), (0.5, 1), (1.0, 1), (4.0, 1)]
    # Widths 3, 4, 8, 16 px and heights 4, 5, 32 px: from 2.83 px (half octave 3) across and 4 px (4) up.
    grid = found["boxes"]
    assert (grid["left"], grid["bottom"]) == (3, 4)
    assert {(row, column) for row, counts in enumerate(grid["counts"]) for column, count in enumerate(counts) if count} == {
        (0, 0),
        (0, 1),
        (0, 5),
        (6, 3),
    }


def test_nothing_to_count() -> None:
    found = overview(columns(things=[]))
    assert (found["sides"], found["aspects"], found["boxes"]) == ([], [], {"left": 0, "bottom": 0, "counts": []})
    assert [each["total"] for each in found["classes"]] == [0, 0]
    assert found["objects"] == [{"low": 0, "high": 0, "count": 4}]


@given(st.lists(st.tuples(st.floats(0, 20_000, width=16), st.floats(0, 20_000, width=16)), max_size=40))
def test_every_box_with_an_area_is_in_one_bar_and_in_one_square(boxes: list[tuple[float, float]]) -> None:
    found = overview(columns(things=[(0, wide, high, 0, 0, 0) for wide, high in boxes]))
    real = [(w, h) for w, h in boxes if w > 0 and h > 0]
    assert sum(map(sum, found["boxes"]["counts"])) == len(real)
    assert sum(each["count"] for each in found["sides"]) == int((columns(things=[(0, *box, 0, 0, 0) for box in boxes]).sides > 0).sum())
    for wide, high in real:
        if wide >= 1 and high >= 1:
            row = min(math.floor(2 * math.log2(high)), 2 * OCTAVES) - found["boxes"]["bottom"]
            column = min(math.floor(2 * math.log2(wide)), 2 * OCTAVES) - found["boxes"]["left"]
            near = [found["boxes"]["counts"][r][c] for r in (row - 1, row, row + 1) for c in (column - 1, column, column + 1)
                    if 0 <= r < len(found["boxes"]["counts"]) and 0 <= c < len(found["boxes"]["counts"][0])]  # fmt: skip
            assert max(near) >= 1


@pytest.mark.parametrize(
    ("facts", "said"),
    [
        ({}, "unknown"),
        ({"format": "PNG", "mode": "I;16", "orientation": 1}, "PNG, 16-bit gray"),
        ({"format": "JPEG", "mode": "RGB", "orientation": 6}, "JPEG, RGB, turned by EXIF"),
        ({"format": "PNG", "mode": "L", "orientation": 1}, "PNG, gray"),
        ({"format": "BMP", "mode": "1", "orientation": 1}, "BMP, black and white"),
    ],
)
def test_kinds_of_files_in_words(facts: dict[str, Any], said: str) -> None:
    assert _kind(facts) == said
