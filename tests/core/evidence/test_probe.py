"""The probe finds what is known: a mirror harms mirror images, turning helps turned pictures, dimming helps in the dark."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from varlen.arrays.pipeline import Pipeline
from varlen.datasets.array_labels import Labels
from varlen.datasets.dataset import Dataset
from varlen.errors import EvidenceError
from varlen.evidence.crops import task_of
from varlen.evidence.paired import difference, score, seeds_to_tell
from varlen.evidence.probe import NONE, probe
from varlen.executors import Cancelled

pytestmark = pytest.mark.slow
SIDE = 48


def _glyph(kind: str, rng: np.random.Generator, degrees: float = 0.0) -> np.ndarray:
    """A bold letter-like mark: a stem with an arm to its right ("gamma") or to its left ("mirrored"), or a bar across ("bar")."""
    y, x = np.mgrid[0:SIDE, 0:SIDE] - (SIDE - 1) / 2
    angle = np.radians(degrees + rng.uniform(-4, 4))
    u, v = x * np.cos(angle) - y * np.sin(angle) + rng.uniform(-3, 3), x * np.sin(angle) + y * np.cos(angle) + rng.uniform(-3, 3)
    if kind == "mirrored":
        u = -u
    ink = (np.abs(u + 6) < 3) & (np.abs(v) < 14) | (np.abs(v + 11) < 3) & (u > -6) & (u < 12)
    if kind == "bar":
        ink = (np.abs(v) < 3) & (np.abs(u) < 14)
    picture = np.where(ink, rng.uniform(40, 70), rng.uniform(150, 190)) + rng.normal(0, 14, (SIDE, SIDE))
    return np.clip(picture, 0, 255).astype(np.uint8)[..., None].repeat(3, 2)


def _glyphs(kinds: tuple[str, ...], turned: float = 0.0, training: int = 24, judged: int = 50) -> Dataset:
    """Pictures of one glyph each; those of the validation split turned by up to `turned` degrees."""
    samples = []
    for split, count in (("train", training), ("validation", judged)):
        for number in range(count):
            rng = np.random.default_rng([number, len(split)])
            kind = kinds[number % len(kinds)]
            degrees = rng.uniform(-turned, turned) if split == "validation" else 0.0
            labels = Labels(boxes=[[6, 6, SIDE - 6, SIDE - 6]], classes=[kind])
            samples.append((f"{split}_{number}", _glyph(kind, rng, degrees), labels, split))
    return Dataset.from_arrays(samples, classes=kinds)


def test_a_mirror_is_shown_to_hurt_mirror_images(tmp_path: Path) -> None:
    glyphs = _glyphs(("gamma", "mirrored"))
    mirror = Pipeline([{"step": "flip", "probability": 0.5}], name="Mirror")
    found = probe(glyphs, [mirror], seeds=2, steps=40, out=tmp_path / "runs")
    none, mirrored = found.results
    assert none["pipeline"] == NONE
    assert none["mean"] > 0.85
    assert mirrored["verdict"] == "hurts"
    assert mirrored["interval"][1] < 0
    told = found.to_json()
    assert told["headline"][0].startswith(f"Mirror: hurts ({mirrored['difference']:+.2f})")
    by_class = told["class_difference"]["Mirror"]
    assert set(by_class) <= set(told["columns"])
    assert {"gamma", "mirrored"} <= set(by_class)
    assert min(each["difference"] for each in by_class.values()) < 0
    for name, each in by_class.items():
        assert each["difference"] == pytest.approx(mirrored["per_class"][name] - none["per_class"][name], abs=2e-4)
    again = probe(glyphs, [mirror], seeds=2, steps=40, out=tmp_path / "runs")  # nothing is left to be done
    assert again.results == found.results
    assert json.dumps(found.to_json(), allow_nan=False)
    assert "hurts" in found._repr_html_()
    with pytest.raises(EvidenceError, match="another probe lies there"):
        probe(glyphs, [mirror.with_seed(9)], seeds=2, steps=40, out=tmp_path / "runs")


def test_turning_helps_turned_pictures_and_dimming_in_the_dark() -> None:
    glyphs = _glyphs(("gamma", "bar"), turned=60)
    turn = Pipeline([{"step": "rotate", "degrees": [-60, 60], "edges": "mirror", "probability": 1}], name="Turn")
    dim = Pipeline([{"step": "color_jitter", "brightness_factor": [0.35, 1.2], "probability": 1}], name="Dim")
    found = probe(glyphs, [turn, dim], seeds=2, steps=45)
    plain = found.to_json()
    turned = next(row for row in plain["results"] if row["pipeline"] == "Turn")
    assert turned["verdict"] == "helps", turned
    assert plain["robustness"]["Dim"]["darker"] > plain["robustness"][NONE]["darker"]
    assert plain["robustness_difference"]["Dim"]["darker"]["verdict"] == "helps"


def test_a_probe_stops_when_told_and_keeps_what_is_done(tmp_path: Path) -> None:
    asked = iter([False, True] + [True] * 1000)
    with pytest.raises(Cancelled):
        probe(_glyphs(("gamma", "bar")), [Pipeline([{"step": "flip"}])], seeds=2, steps=400, out=tmp_path / "runs", stop=lambda: next(asked))
    assert (tmp_path / "runs" / "order.json").exists()


def _one(labels: Labels | None, split: str) -> Dataset:
    """A dataset of one picture."""
    return Dataset.from_arrays([("a", np.zeros((32, 32, 3), np.uint8), labels, split)])


MOTH = Labels(boxes=[[2, 2, 30, 30]], classes=["moth"])


@pytest.mark.parametrize(
    ("dataset", "message"),
    [
        (_one(None, "train"), "no labels to learn from"),
        (_one(MOTH, "train"), "no validation split"),
        (_one(MOTH, "test"), "no training split"),
    ],
)
def test_what_can_not_be_probed_is_said(dataset: Dataset, message: str) -> None:
    with pytest.raises(EvidenceError, match=message):
        probe(dataset, [Pipeline()])


def test_the_task_follows_from_the_labels(survey) -> None:
    assert task_of(survey).name == "objects"
    assert task_of(survey, "keypoints").columns == tuple(survey.skeleton.names)
    with pytest.raises(EvidenceError, match="nothing for the task 'pixels'; there is for objects, keypoints"):
        task_of(survey, "pixels")


def _run(rng: np.random.Generator, right: float, pictures: int) -> tuple[np.ndarray, np.ndarray]:
    whole = np.full((pictures, 2), 4.0)
    return rng.binomial(4, right, (pictures, 2)).astype(float), whole


def test_intervals_hold_what_they_promise() -> None:
    """Of many experiments without a difference about one in twenty may claim one, and a large one is found."""
    claims, found = 0, 0
    for trial in range(120):
        rng = np.random.default_rng(trial)
        one, other, better = ([_run(rng, share, 40) for _ in range(3)] for share in (0.7, 0.7, 0.85))
        claims += difference(one, other).verdict != "no difference shown"
        found += difference(better, other).verdict == "helps"
    assert claims <= 10
    assert found >= 110


def test_scores_and_seeds() -> None:
    right, whole = np.array([[1.0, 0.0], [1.0, 3.0]]), np.array([[2.0, 0.0], [2.0, 4.0]])
    assert score(right, whole)[0] == pytest.approx((2 / 4 + 3 / 4) / 2)
    assert score(right * 0, whole * 0)[0] == 0.0
    rng = np.random.default_rng(1)
    same = [_run(rng, 0.7, 30) for _ in range(3)]
    told = difference(same, same)
    assert (told.mean, told.low, told.high, told.verdict) == (0.0, 0.0, 0.0, "no difference shown")
    assert seeds_to_tell(told, 3) is None
