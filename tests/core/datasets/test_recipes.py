"""Reading recipes: every one that ships reads a tree of its layout, as recognised and by name; what they refuse; what an edition keeps."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from numpy.testing import assert_allclose
from typer.testing import CliRunner
from varlen.datasets.formats import open_dataset, read_dataset
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.recipes import shipped

from tests.core.datasets.recipe_trees import BOX, TREES
from tests.core.datasets.trees import write_tree

run = CliRunner()


def written(folder: Path, files: dict[str, Any]) -> Path:
    return write_tree(folder, {path: json.dumps(value) if isinstance(value, list | dict) else value for path, value in files.items()})


@pytest.mark.parametrize("name", TREES)
def test_a_published_layout_is_recognised_and_read(tmp_path: Path, name: str) -> None:
    laid = TREES[name]
    folder = written(tmp_path / "set", laid.files)
    assert open_dataset(folder).form == name
    dataset = read_dataset(folder)
    assert len(dataset.entries) == laid.images
    assert dataset.account is not None
    assert dataset.account.unexplained == []
    entry = dataset.entries[laid.picture]
    assert entry.classes == laid.classes
    if laid.split:
        assert entry.split == laid.split
    if laid.label is not None:
        assert dataset.classes[entry.objects.classes[0]] == laid.label
        assert_allclose(entry.objects.boxes[0], laid.box or [], atol=1e-9)
        assert entry.objects.attributes[0].items() >= laid.attributes.items()
    assert read_dataset(folder, form=name).digest() == dataset.digest()
    assert read_dataset(folder, options=ImportOptions(reading=shipped()[name])).digest() == dataset.digest()


def test_every_recipe_that_ships_has_a_tree() -> None:
    assert set(TREES) == set(shipped())


def test_painted_objects(tmp_path: Path) -> None:
    dataset = read_dataset(written(tmp_path / "panoptic", TREES["panoptic"].files))
    found = next(iter(dataset.entries.values())).objects
    assert {dataset.classes[n]: box for n, box in zip(found.classes.tolist(), found.boxes.tolist(), strict=True)} == {
        "moth": BOX,
        "sky": [50, 50, 60, 60],
    }
    assert sorted(each["area"] for each in found.attributes) == [100, 1200]
    assert len(next(iter(read_dataset(written(tmp_path / "masks", TREES["object-masks"].files)).entries.values())).objects) == 2
