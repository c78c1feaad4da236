"""The keep rule by itself, at its limits."""

from __future__ import annotations

import numpy as np
import pytest
from varlen.labels.keep_rule import cover_reason, cut_reason, lost, required_share, small_reason, too_small, touched
from varlen.pipeline.reading import LabelRules

RULES = LabelRules(keep_share=0.25, keep_side_px=3)


def test_what_is_lost_of_what_is_left() -> None:
    """Nothing left is lost whatever the rule; less than the share only if the step took anything; crowds never while seen."""
    share = np.array([0.0, 0.2, 0.25, 0.9, 1.0, 1.0, 0.0, 0.1])
    left = np.array([0.0, 0.2, 0.25, 0.1, 0.1, 1.0, 0.0, 0.1])
    crowd = np.array([False, False, False, False, False, False, True, True])
    assert lost(share, left, crowd, RULES).tolist() == [True, True, False, True, False, False, True, False]
    assert touched(share).tolist() == [True, True, True, True, False, False, True, True]


def test_too_small_is_by_the_shorter_side() -> None:
    boxes = np.array([[0, 0, 3, 9], [0, 0, 2.9, 9], [0, 0, 9, 2.9], [5, 5, 8, 8]], np.float64)
    assert too_small(boxes, RULES).tolist() == [False, True, True, False]
    assert too_small(boxes[None], RULES).shape == (1, 4)


@pytest.mark.parametrize(("keep", "prior", "required"), [(0.25, 1.0, 0.25), (0.25, 0.5, 0.5), (0.25, 0.25, 1.0), (0.25, 0.0, 1.0), (0.0, 0.5, 2e-9)])
def test_how_much_of_a_state_must_be_left(keep: float, prior: float, required: float) -> None:
    assert required_share(LabelRules(keep_share=keep), prior) == pytest.approx(required, rel=1e-6)


def test_reasons_in_words() -> None:
    assert [cut_reason(share, RULES) for share in (0.0, 0.1)] == ["outside the frame", "less than 25 % left"]
    assert [cover_reason(share, RULES) for share in (0.0, 0.1)] == ["covered", "covered, less than 25 % left"]
    assert small_reason(RULES) == "shorter side under 3 px"
