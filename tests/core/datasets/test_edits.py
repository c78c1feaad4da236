"""Edits of one image: what each leaves, in which order, and that what they do not name stays."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from varlen.datasets.edits import Edit, apply_edits
from varlen.datasets.entry import Entry
from varlen.errors import DatasetError
from varlen.model.geometry import Size

from tests.core.scenes import block, objects_of, polygon, square

SIZE = Size(100, 80)


def entry(*rows: dict[str, Any]) -> Entry:
    return Entry("a", "train", SIZE, objects_of("a", list(rows)))


def after(one: Entry, *edits: tuple[str, ...]) -> Entry:
    found = apply_edits(one, [Edit(kind, "a", *more) for kind, *more in edits])  # type: ignore[arg-type]
    assert found is not None
    return found


def test_moves_and_drops() -> None:
    one = entry({"box": [1, 1, 9, 9]}, {"box": [2, 2, 9, 9], "class": 1}, {"box": [3, 3, 9, 9]})
    assert after(one, ("move", "", "test"), ("move", "", "validation")).split == "validation"
    assert after(one, ("drop-object", "1")).objects.ids == ("0", "2")
    assert after(one, ("drop-object", "9")).objects.ids == ("0", "1", "2")
    assert after(one, ("drop-object", "0"), ("drop-object", "2")).objects.boxes.tolist() == [[2, 2, 9, 9]]
    assert one.objects.ids == ("0", "1", "2")


def test_left_out_is_left_out_whatever_comes_after() -> None:
    assert apply_edits(entry(), [Edit("leave-out", "a"), Edit("move", "a", value="test")]) is None


@pytest.mark.parametrize(
    ("box", "left"),
    [
        ([-5, 10, 50, 90], [0, 10, 50, 80]),
        ([90, -3, 120, 20], [90, 0, 100, 20]),
        ([10, 10, 20, 20], [10, 10, 20, 20]),
        ([100, 10, 120, 20], None),
        ([-9, 10, 0, 20], None),
        ([10, 80, 20, 90], None),
        ([10, -9, 20, 0], None),
    ],
)
def test_clipped_to_the_picture_or_gone(box: list[float], left: list[float] | None) -> None:
    found = after(entry({"box": [0, 0, 9, 9]}, {"box": box}), ("clip-box", "1")).objects
    assert found.ids == (("0", "1") if left else ("0",))
    assert found.boxes.tolist() == [[0, 0, 9, 9], *([left] if left else [])]


def test_outlines_and_masks_are_clipped_with_their_box_and_others_are_not() -> None:
    one = entry(
        {"polygon": polygon(square(80, 60, 120, 100))},
        {"polygon": polygon(square(90, 10, 130, 30))},
        {"mask": block(95, 70, 10, 20)},
    )
    found = after(one, ("clip-box", "0"), ("clip-box", "2")).objects
    (first,), (second,) = found.polygons[0] or (), found.polygons[1] or ()
    assert {(x, y) for x, y in first.outline.tolist()} == {(80, 60), (100, 60), (100, 80), (80, 80)}
    assert second.outline[:, 0].max() == 130
    mask = found.masks[2]
    assert mask is not None
    assert (mask.left, mask.top, mask.pixels.shape) == (95, 70, (10, 5))
    assert np.allclose(found.boxes[2], [95, 70, 100, 80])


@pytest.mark.parametrize(("values", "says"), [(("turn", "a"), "there is no 'turn'"), (("move", "a", "", "night"), "'night' is not a split")])
def test_edits_that_can_t_be(values: tuple[str, ...], says: str) -> None:
    with pytest.raises(DatasetError, match=says):
        Edit(*values)  # type: ignore[arg-type]
