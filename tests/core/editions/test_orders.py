"""How many variants each image gets: exact totals, counts per class and balances, against counts of what is written."""

from __future__ import annotations

from collections import Counter
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import read_dataset
from varlen.editions.allotment import Allotment, balancing_weights, shared
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.rows import read_rows
from varlen.editions.trials import grid
from varlen.editions.verify import verify
from varlen.errors import EditionError
from varlen.forecasts.expected_counts import outlook

from tests.conftest import make_pipeline
from tests.core.datasets.trees import write_tree
from tests.core.scenes import scene

UNEVEN = {"moth": 12, "lamp": 5, "reed": 2}


@pytest.fixture(scope="module")
def folders(tmp_path_factory: pytest.TempPathFactory) -> Dataset:
    files = {f"train/{name}/{n}.jpg": (24, 18) for name, count in UNEVEN.items() for n in range(count)}
    return read_dataset(write_tree(tmp_path_factory.mktemp("uneven"), {**files, "val/moth/v.jpg": (24, 18)}))


@pytest.mark.parametrize("total", [1, 7, 19, 20, 100, 151])
@pytest.mark.parametrize("originals", [True, False])
@pytest.mark.parametrize("balance", [True, False])
def test_exactly_so_many(folders: Dataset, total: int, originals: bool, balance: bool) -> None:
    spec = ExportSpec(total=total, originals=originals, balance=balance)
    allotment = Allotment(folders, spec, 20)
    assert allotment.counts() == {"train": total, "validation": 1}
    each = [allotment.variants("train", place) for place in range(19)]
    assert all(numbers.start == (0 if originals else 1) for numbers in each)
    counts = np.array([len(numbers) for numbers in each])
    by_class = Counter(dict.fromkeys(UNEVEN, 0))
    for key, count in zip(allotment.keys["train"], counts, strict=True):
        by_class[key.split("/")[1]] += int(count)
    if not balance:
        assert counts.max() - counts.min() <= 1
    elif total >= 57 or not originals:
        assert max(by_class.values()) - min(by_class.values()) <= 1
    if originals and total >= 19:
        assert counts.min() >= 1
    assert Allotment(folders, spec, 20).images.tolist() == counts.tolist()  # type: ignore[union-attr]


def test_a_balance_keeps_the_number_of_images(folders: Dataset) -> None:
    plain, balanced = (Allotment(folders, ExportSpec(variants=5, balance=each), 0).counts() for each in (False, True))
    assert plain == balanced == {"train": 114, "validation": 1}


@pytest.mark.parametrize("originals", [True, False])
def test_so_many_of_each_class(folders: Dataset, originals: bool) -> None:
    allotment = Allotment(folders, ExportSpec(per_class=10, originals=originals), 3)
    by_class = Counter(key.split("/")[1] for place, key in enumerate(allotment.keys["train"]) for _ in allotment.variants("train", place))
    assert by_class == {"moth": 12 if originals else 10, "lamp": 10, "reed": 10}


@given(st.lists(st.lists(st.integers(0, 4), min_size=3, max_size=3), min_size=3, max_size=30))
@settings(max_examples=60)
def test_balancing_never_makes_classes_less_alike(rows: list[list[int]]) -> None:
    labels = np.array([*rows, [1, 0, 0], [0, 1, 0], [0, 0, 1]], np.float64)
    weights = balancing_weights(labels)
    before, after = labels.sum(axis=0), weights @ labels
    assert weights.min() > 0
    assert after.max() / after.min() <= before.max() / before.min() + 1e-6


@given(st.lists(st.floats(0.01, 50), min_size=1, max_size=40), st.integers(0, 500))
def test_shares_are_whole_and_add_up(weights: list[float], total: int) -> None:
    keys = [str(n) for n in range(len(weights))]
    found = shared(total, np.array(weights), 1, keys, 0)
    assert int(found.sum()) == total
    assert np.abs(found - np.array(weights) / sum(weights) * total).max() < 1 + 1e-9


def test_what_is_written_is_what_was_ordered(folders: Dataset, tmp_path: Path) -> None:
    pipeline = make_pipeline({"step": "flip", "probability": 0.5}, {"step": "color_jitter"}, seed=4)
    order = ExportSpec(total=60, balance=True)
    record = export(folders, pipeline, tmp_path / "out", order, workers=2)
    assert (record["total"], record["balance"], record["format"], record["variants"]) == (60, True, "class-folders", 0)
    assert record["counts"]["train"]["image_classes"] == {"lamp": 20, "moth": 20, "reed": 20}
    rows = list(read_rows(tmp_path / "out"))
    assert len({(row["source"], row["variant"]) for row in rows}) == len(rows) == 61
    assert verify(tmp_path / "out") == []
    assert "exactly 60 training images" in (tmp_path / "out" / "README.md").read_text()
    assert ExportSpec(**ExportSpec.fields_of(record)) == order.for_dataset(folders)
    ahead = outlook(folders, pipeline, order)
    assert {split: count["images"] for split, count in ahead["counts"].items()} == {"train": 60, "validation": 1}
    assert ahead["class_objects"]["reed"] == {"before": 2, "after": 20}
    assert 0.5 < ahead["bytes"] / sum((tmp_path / "out" / row["file"]).stat().st_size for row in rows) < 2


@pytest.mark.parametrize(
    ("wish", "says"),
    [
        ({"total": 5, "per_class": 5}, "exclude each other"), ({"per_class": 5, "balance": True}, "exclude each other"), ({"total": -1}, "outside"),
        ({"per_class": 100_000}, "more than 1000"),
    ],
)  # fmt: skip
def test_orders_that_can_t_be_filled(folders: Dataset, wish: dict[str, Any], says: str) -> None:
    with pytest.raises(EditionError, match=says):
        Allotment(folders, ExportSpec(**wish), 0)


def test_nothing_to_balance() -> None:
    bare = scene({"a": [], "b": []})
    bare.entries = {key: type(entry)(entry.key, entry.split, entry.size, entry.objects) for key, entry in bare.entries.items()}
    with pytest.raises(EditionError, match="no training image shows a class"):
        Allotment(bare, ExportSpec(balance=True), 0)


def test_a_baseline_writes_each_image_once(folders: Dataset, tmp_path: Path) -> None:
    """In trials, whatever the variants: copies of originals teach nothing."""
    plain, varied = make_pipeline(name="plain"), make_pipeline({"step": "flip", "probability": 0.5}, name="flipped")
    fit = make_pipeline({"step": "resize", "width_px": 12, "height_px": 12, "scope": "every"}, name="fitted")
    cells = list(grid([folders], [plain, varied, fit], tmp_path, ExportSpec(variants=3)))
    assert [cell.state for cell in cells] == ["made"] * 3
    assert [sum(1 for _ in read_rows(cell.folder)) for cell in cells] == [20, 77, 20]
    assert [cell.state for cell in grid([folders], [plain, varied, fit], tmp_path, ExportSpec(variants=3))] == ["there"] * 3
