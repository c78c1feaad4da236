"""Matching a field: known changes of light, grain and focus are found and covered; nothing is suggested where nothing is needed."""

from __future__ import annotations

import json
from functools import lru_cache
from pathlib import Path

import numpy as np
import pytest
from scipy import ndimage
from varlen.datasets.formats import read_dataset
from varlen.datasets.image_files import encode
from varlen.errors import EvidenceError
from varlen.evidence.conditions import covered, differs, told_apart
from varlen.evidence.domain_classifier import tell_apart
from varlen.evidence.match import match
from varlen.pipeline.document import Pipeline

from tests.core.evidence.pictures import clouds, hills, page, walls

KINDS = (clouds, walls, page, hills)


@lru_cache(maxsize=200)
def _scene(seed: int) -> np.ndarray:
    """A small scene, the same for a seed."""
    rng = np.random.default_rng([9, seed])
    whole = KINDS[seed % len(KINDS)](rng, (180, 240))
    soft = ndimage.gaussian_filter(whole, (0.6, 0.6, 0))
    return np.clip(soft + rng.standard_normal(soft.shape) * 0.8, 0, 255)


def _write(folder: Path, first: int, change=lambda pixels, rng: pixels, count: int = 30, kind: str = "png"):
    folder.mkdir(parents=True)
    for number in range(count):
        rng = np.random.default_rng([4, first + number])
        pixels = np.clip(change(_scene(first + number), rng) + 0.5, 0, 255).astype(np.uint8)
        (folder / f"{number:03d}.{kind}").write_bytes(encode(pixels, kind, 95))  # type: ignore[arg-type]
    return read_dataset(folder)


@pytest.fixture(scope="module")
def training(tmp_path_factory):
    return _write(tmp_path_factory.mktemp("match") / "training", 0, count=40)


def test_a_darker_field_is_found_and_covered(training, tmp_path: Path) -> None:
    exponents = (1.5, 2.2)
    field = _write(tmp_path / "field", 100, lambda pixels, rng: 255 * (pixels / 255) ** rng.uniform(*exponents))
    found = match(training, field, workers=2)
    assert found.auc_before >= 0.75
    assert found.auc_after <= 0.65
    assert [step.step for step in found.suggested] == ["gamma"]
    low, high = found.suggested["match-gamma"].exponent
    assert low < np.sqrt(np.prod(exponents)) < high or low == pytest.approx(np.sqrt(np.prod(exponents)), rel=0.25)
    assert np.log(high / low) <= 1.5 * np.log(exponents[1] / exponents[0])
    for each in found.to_json()["conditions"]:
        assert not each["differs_after"], each
        assert each["covered_after"] >= (0.95 if each["name"] == "brightness" else 0.8), each
    assert json.loads(json.dumps(found.to_json(), allow_nan=False)) == found.to_json()


def test_a_noisy_field_gets_noise(training, tmp_path: Path) -> None:
    field = _write(tmp_path / "field", 100, lambda pixels, rng: pixels + rng.normal(0, rng.uniform(4, 8), pixels.shape))
    found = match(training, field, workers=2)
    assert [step.step for step in found.suggested] == ["noise"]
    low, high = found.suggested["match-noise"].sigma_levels
    assert 2.5 <= low <= 6
    assert 6 <= high <= 10
    assert next(each for each in found.to_json()["conditions"] if each["name"] == "noise")["covered_after"] >= 0.9


def test_what_no_step_reaches_is_said(tmp_path: Path) -> None:
    blurred = _write(tmp_path / "training", 0, lambda pixels, rng: ndimage.gaussian_filter(pixels, (3.0, 3.0, 0)), count=16)
    found = match(blurred, _write(tmp_path / "field", 100, count=16), workers=2)
    assert not any(step.step == "blur" for step in found.suggested)
    assert any(line.startswith("sharpness: the field is sharper") for line in found.unreached)


def test_alike_sides_get_no_suggestion(training, tmp_path: Path) -> None:
    found = match(training, _write(tmp_path / "field", 100), workers=2)
    assert len(found.suggested) == 0
    assert found.told_before.low <= 0.56
    assert found.auc_after == found.auc_before
    plain = found.to_json()
    assert plain["suggested"]["steps"] == []
    assert plain["unreached"] == []


def test_workers_change_no_digit(training, tmp_path: Path) -> None:
    field = _write(tmp_path / "field", 100, count=12)
    pipeline = Pipeline([{"step": "flip"}, {"step": "gamma"}], seed=4)
    one, two = (match(training, field, pipeline, workers=workers).to_json(values=True) for workers in (1, 2))
    assert one == two


def test_fill_does_not_count_as_darkness(training, tmp_path: Path) -> None:
    """A rotation leaves black corners; brightness is that of the picture."""
    turned = Pipeline([{"step": "rotate", "degrees": [30, 30], "edges": "solid", "edge_color": [0, 0, 0], "probability": 1}])
    found = match(training, _write(tmp_path / "field", 100, count=10), turned)
    plain, moved = found.training.of("brightness").mean(), found.before.of("brightness").mean()
    assert moved == pytest.approx(plain, rel=0.05)


def test_gray_pictures_and_other_sizes_are_measured(training, tmp_path: Path) -> None:
    folder = tmp_path / "gray"
    folder.mkdir()
    for number in range(8):
        gray = _scene(100 + number).mean(axis=2, keepdims=True)[: 100 + 7 * number].astype(np.uint8)
        (folder / f"{number}.png").write_bytes(encode(np.ascontiguousarray(gray), "png"))
    found = match(training, read_dataset(folder))
    assert np.abs(found.theirs.of("saturation")).max() < 1e-9
    assert json.dumps(found.to_json(values=True), allow_nan=False)


@pytest.mark.parametrize("count", [1, 4])
def test_a_field_too_small_is_refused_in_words(training, tmp_path: Path, count: int) -> None:
    with pytest.raises(EvidenceError, match=f"{count} field pictures; a match needs at least 5"):
        match(training, _write(tmp_path / "field", 0, count=count))


def test_pictures_all_alike_bring_no_nan(tmp_path: Path) -> None:
    flat = [_write(tmp_path / name, 0, lambda pixels, rng: np.full_like(pixels, 100), count=6) for name in ("a", "b")]
    found = match(*flat)
    assert found.auc_before == 0.5
    assert json.dumps(found.to_json(values=True), allow_nan=False)


def test_the_classifier_is_fair() -> None:
    rng = np.random.default_rng(3)
    one, other = rng.standard_normal((200, 9)), rng.standard_normal((80, 9))
    names, others = [f"{n}" for n in range(200)], [f"{n}" for n in range(80)]
    told = tell_apart(one, names, other, others)
    assert told.low <= 0.5 <= told.high
    assert tell_apart(one, names, other + 3.0, others).auc > 0.99
    # Variants of one source in one fold: copies don't help it.
    copied = tell_apart(np.repeat(one[:20], 10, axis=0), [f"{n // 10}" for n in range(200)], other, others)
    assert copied.low <= 0.55


def test_coverage_counts_what_lies_in_the_inner_range() -> None:
    variants = np.linspace(0, 1, 1001)
    assert covered(np.array([0.005, 0.5, 0.995, 2.0]), variants) == 0.25
    assert covered(np.array([0.02, 0.5]), variants) == 1.0
    assert told_apart(np.full(9, 5.0), np.full(9, 5.0)) == (0.5, 1.0)
    assert not differs(np.random.default_rng(0).normal(size=40), np.random.default_rng(1).normal(size=200))
    assert differs(np.random.default_rng(0).normal(3, 1, 40), np.random.default_rng(1).normal(size=200))
