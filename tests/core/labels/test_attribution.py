"""Which step of a run is held responsible for a loss of size."""

from __future__ import annotations

import pytest
from varlen.labels.outcomes import SOURCE, shrinking_step
from varlen.model.geometry import IDENTITY, Matrix, Size, rotation, scaling
from varlen.pipeline.plan import Resample, StepTransform

SIZE = Size(100, 100)
#: A perspective that shrinks sides to 0.867 in the middle of the picture, and more below.
TILT = Matrix(h=0.002)


def run(*moves: tuple[str, Matrix]) -> Resample:
    members, so_far = [], IDENTITY
    for name, matrix in moves:
        so_far = so_far.then(matrix)
        members.append(StepTransform(name, (), so_far, SIZE))
    return Resample(SIZE, SIZE, matrix=so_far, members=members)


@pytest.mark.parametrize(
    ("moves", "step"),
    [
        ([("resize", scaling(0.5, 0.5)), ("scale", scaling(0.8, 0.8))], "resize"),
        ([("scale", scaling(0.8, 0.8)), ("resize", scaling(0.5, 0.5))], "resize"),
        ([("scale", scaling(3, 3)), ("resize", scaling(0.9, 0.9))], "resize"),
        ([("rotate", rotation(30)), ("stretch", scaling(2, 0.4))], "stretch"),
        ([("tilt", TILT), ("scale", scaling(0.8, 0.8))], "scale"),
        ([("tilt", TILT), ("scale", scaling(0.9, 0.9))], "tilt"),
        ([("flip", Matrix(-1, 0, 100)), ("scale", scaling(0.9, 0.9))], "scale"),
    ],
)
def test_the_step_that_shrinks_most_in_the_middle_of_the_picture(moves: list[tuple[str, Matrix]], step: str) -> None:
    assert shrinking_step(run(*moves)) == step


def test_without_a_step_it_came_so() -> None:
    assert shrinking_step(None) == shrinking_step(run()) == SOURCE
