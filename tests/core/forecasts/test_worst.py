"""The worst variants are the worst: held against every variant, one by one."""

from __future__ import annotations

from pathlib import Path

import pytest
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import read_dataset
from varlen.forecasts.worst_variants import DRAWS, By, worst_variants
from varlen.labels.outcomes import SOURCE
from varlen.render.renderer import Renderer

from tests.conftest import dotted, make_pipeline


def value_of(renderer: Renderer, image: str, variant: int, by: By) -> float:
    """The same figure from the variant's labels and trace."""
    outcome = renderer.variant_labels(image, variant)
    if by == "blank":
        return outcome.trace["blank_share"]
    if by == "loose":
        return float(outcome.objects.growth.max(initial=1.0))
    return float(len([fate for fate in outcome.trace["objects"]["dropped"] if fate["step"] != SOURCE]))


@pytest.mark.parametrize("by", ["lost", "blank"])
def test_the_worst_come_first(survey: Dataset, by: By) -> None:
    renderer = Renderer(survey, make_pipeline({"step": "rotate", "degrees": [-40, 40]}, {"step": "shift", "x_fraction": [-0.3, 0.3]}, seed=4))
    found = worst_variants(renderer, by, 3)
    values = [worst.value for worst in found]
    assert values == sorted(values, reverse=True)
    assert len({worst.image for worst in found}) == len(found) > 0
    for worst in found:
        assert value_of(renderer, worst.image, worst.variant, by) == pytest.approx(worst.value, abs=1e-4)
    images = survey.by_split()["train"]
    each = DRAWS // len(images)
    for variant in range(1, min(each, 8) + 1):
        assert value_of(renderer, found[0].image, variant, by) <= values[0] + 1e-4


def test_the_loosest_box_is_the_most_turned_one(tmp_path: Path) -> None:
    """Boxes without outlines grow with the turn: the loosest is that of the variant turned farthest."""
    dataset = read_dataset(dotted(tmp_path / "dots", 200, 150, [(60, 60), (120, 80)]))
    renderer = Renderer(dataset, make_pipeline({"step": "rotate", "degrees": [-40, 40]}, seed=4, labels={"keep_side_px": 0}))
    worst = worst_variants(renderer, "loose", 2)[0]
    turns = {
        (image, variant): abs(renderer.plan(image, variant).steps[0]["drawn"]["degrees"]) for image in dataset.entries for variant in range(1, 201)
    }
    assert turns[worst.image, worst.variant] == pytest.approx(max(turns.values()))


def test_where_nothing_is_bad_nothing_is_shown(survey: Dataset) -> None:
    renderer = Renderer(survey, make_pipeline({"step": "flip"}))
    assert all(worst_variants(renderer, by, 3) == [] for by in ("lost", "blank", "loose"))
