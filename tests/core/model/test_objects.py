"""Masks by hand: cut to their ones, cut to a picture."""

from __future__ import annotations

import numpy as np
from varlen.model.geometry import Size
from varlen.model.objects import Mask


def frame(*ones: tuple[int, int]) -> np.ndarray:
    made = np.zeros((6, 8), np.uint8)
    for x, y in ones:
        made[y, x] = 1
    return made


def test_a_mask_is_cut_to_its_ones() -> None:
    mask = Mask.tight(frame((2, 1), (5, 3)))
    assert mask is not None
    assert (mask.left, mask.top, mask.pixels.tolist()) == (2, 1, [[1, 0, 0, 0], [0, 0, 0, 0], [0, 0, 0, 1]])
    assert list(mask.box) == [2, 1, 6, 4]
    moved = Mask.tight(frame((2, 1), (5, 3)), 10, 20)
    assert moved is not None
    assert list(moved.box) == [12, 21, 16, 24]
    assert Mask.tight(frame()) is None


def test_a_mask_is_cut_to_a_picture() -> None:
    mask = Mask.tight(frame((2, 1), (5, 3)), -3, -1)
    assert mask is not None
    inside = mask.within(Size(20, 20))
    assert inside is not None
    assert list(inside.box) == [2, 2, 3, 3]  # of the two ones only one lies in the picture
    assert mask.within(Size(2, 20)) is None
    whole = mask.within(Size(3, 3))
    assert whole is not None
    assert whole.pixels.tolist() == [[1]]
