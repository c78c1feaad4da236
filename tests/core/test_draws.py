"""Draws depend on what they are for and on nothing else."""

from __future__ import annotations

from collections import Counter

import pytest
from hypothesis import given
from hypothesis import strategies as st
from varlen.datasets.dataset import Dataset
from varlen.draws import PartnerRing, Stream
from varlen.render.renderer import Renderer

from tests.conftest import make_pipeline


def test_words_are_the_same_on_every_machine_for_ever() -> None:
    """Pinned: a change here would change every edition anyone ever made."""
    stream = Stream(20, "images/train/night_0001.jpg", 1, "tilt")
    assert [stream.word() for _ in range(10)] == PINNED


PINNED = [
    16297008745074381099,
    2111021589525538496,
    14954822336020049530,
    17128957499930047171,
    16110331395546095099,
    14522406772846653480,
    13009300615682538351,
    3605132941398519697,
    14467468032950381549,
    14570328029102448524,
]


@given(st.integers(0, 2**53), st.text(min_size=1), st.integers(0, 1000), st.text(min_size=1), st.floats(0.01, 5), st.floats(1, 10))
def test_values_stay_within_their_range(seed: int, image: str, variant: int, step: str, low: float, ratio: float) -> None:
    stream = Stream(seed, image, variant, step)
    assert 0 <= stream.unit() < 1
    assert low - 1e-6 <= stream.uniform(low, low * ratio) <= low * ratio + 1e-6
    assert low <= stream.factor(low, low * ratio) <= low * ratio
    assert 0 <= stream.below(7) < 7


def test_streams_don_t_disturb_each_other() -> None:
    alone = Stream(1, "a", 1, "x")
    first = [alone.unit() for _ in range(3)]
    again = Stream(1, "a", 1, "x")
    assert [again.unit() for _ in range(3)] == first
    assert Stream(1, "a", 1, "y").unit() != Stream(1, "a", 2, "x").unit() != first[0]


def test_factors_halve_as_often_as_they_double() -> None:
    low = sum(Stream(0, "a", n, "s").factor(0.5, 2) < 1 for n in range(4000))
    assert 1850 < low < 2150


def drawn(dataset: Dataset, *steps: dict, **head: object) -> dict[str, dict]:
    """What was drawn for each step on one variant of each image."""
    renderer = Renderer(dataset, make_pipeline(*steps, **head))
    found = {}
    for key in dataset.entries:
        for record in renderer.variant_labels(key, 1).trace["steps"]:
            found[f"{key} {record['id']}"] = (record["fired"], record["drawn"])
    return found


def test_changing_one_step_leaves_the_draws_of_the_others(survey: Dataset) -> None:
    mirror = {"id": "mirror", "step": "flip", "probability": 0.5}
    tilt = {"id": "tilt", "step": "rotate", "degrees": [-12, 12]}
    light = {"id": "light", "step": "color_jitter"}
    before = drawn(survey, mirror, tilt, light)
    wider = drawn(survey, mirror, {**tilt, "degrees": [-40, 40]}, light)
    inserted = drawn(survey, {"id": "soft", "step": "blur"}, light, mirror, tilt)
    without = drawn(survey, mirror, {**tilt, "enabled": False}, light)
    for name, record in before.items():
        if name.endswith("tilt"):
            assert wider[name] != record
            assert name not in without
        else:
            assert wider[name] == without[name] == record
        assert inserted[name] == record


def test_raising_a_probability_only_adds_firings(survey: Dataset) -> None:
    seldom = drawn(survey, {"id": "mirror", "step": "flip", "probability": 0.3})
    often = drawn(survey, {"id": "mirror", "step": "flip", "probability": 0.8})
    assert all(often[name][0] for name, (fired, _) in seldom.items() if fired)
    assert sum(fired for fired, _ in often.values()) > sum(fired for fired, _ in seldom.values())


@pytest.mark.parametrize("count", [2, 30])
def test_adding_an_image_changes_few_partners(count: int) -> None:
    keys = [f"images/{n}.jpg" for n in range(count)]
    before, after = PartnerRing({key: [key] for key in keys}), PartnerRing({key: [key] for key in [*keys, "images/new.jpg"]})
    picks = [(before.pick(Stream(1, "a", n, "m"), "a"), after.pick(Stream(1, "a", n, "m"), "a")) for n in range(600)]
    changed = [new for old, new in picks if old != new]
    assert set(changed) <= {"images/new.jpg"}
    assert len(changed) < 600 * 3 / count
    assert len(Counter(old for old, _ in picks)) == count


def test_alone_in_its_split_an_image_is_its_own_partner() -> None:
    assert PartnerRing({key: [key] for key in ["only.jpg"]}).pick(Stream(1, "only.jpg", 1, "m"), "only.jpg") == "only.jpg"
