"""What each format holds of each kind of label, against what a reader of the written files finds; and the yes that a loss needs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from varlen.datasets.convert import KINDS, LossRefused, accepted_kinds, check_losses, convert, kinds_of, losses_of
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import READERS, WRITERS, default_format, read_dataset
from varlen.datasets.formats.base import LabelCounts
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.errors import EditionError, ReadProblems
from varlen.model.objects import make_objects

from tests.conftest import make_pipeline
from tests.core.datasets.test_layouts import LAYOUTS
from tests.core.datasets.trees import levels, picture_of, write_tree
from tests.core.golden.dataset import MemoryFiles
from tests.core.scenes import block, scene, square

CORNERS = np.array([[20.0, 20.0], [60.0, 30.0], [56.0, 46.0], [16.0, 36.0]])
READ_BACK = [form for form in WRITERS if form in READERS or form.startswith("yolo")]


def boxes() -> Dataset:
    return plain(scene({"a": [{"box": [10, 10, 40, 30]}]}))


def polygons() -> Dataset:
    from tests.core.scenes import polygon

    return plain(scene({"a": [{"polygon": polygon(square(10, 10, 40, 30))}]}))


def masks() -> Dataset:
    return plain(scene({"a": [{"mask": block(10, 10, 30, 20)}]}))


def keypoints() -> Dataset:
    from varlen.datasets.skeleton import Skeleton

    rows = {"a": [{"box": [10, 10, 40, 30], "points": [[15.5, 15.5, 2], [20.5, 20.5, 1]]}]}
    return plain(scene(rows, skeleton=Skeleton(("head", "tail"))))


def crowd() -> Dataset:
    return plain(scene({"a": [{"box": [10, 10, 40, 30], "crowd": True}]}))


def attributes() -> Dataset:
    return plain(scene({"a": [{"box": [10, 10, 40, 30], "more": {"wing": "torn", "age": 3}}]}))


def oriented() -> Dataset:
    dataset = boxes()
    box = [*CORNERS.min(axis=0), *CORNERS.max(axis=0)]
    objects = make_objects(["1"], "a", [0], [box], [None], [None], [[]], [False], [{}], [CORNERS])
    dataset.entries = {"a": replace(dataset.entries["a"], objects=objects)}
    return dataset


def image_classes() -> Dataset:
    return scene({"a": []})


def label_maps() -> Dataset:
    dataset = plain(scene({"a": []}))
    entry = dataset.entries["a"]
    dataset.entries = {"a": replace(entry, label_map="m.png")}
    assert isinstance(dataset.files, MemoryFiles)
    dataset.files.files["m.png"] = picture_of(levels(0, 1, width=entry.size.width, height=entry.size.height), ".png")
    dataset.map_classes = ("background", "moth")
    return dataset


def plain(dataset: Dataset) -> Dataset:
    """The same without image-level classes."""
    dataset.entries = {key: replace(entry, classes=()) for key, entry in dataset.entries.items()}
    return dataset


MADE: dict[str, Callable[[], Dataset]] = {
    "boxes": boxes, "image_classes": image_classes, "masks": masks, "polygons": polygons, "keypoints": keypoints, "oriented_boxes": oriented,
    "label_maps": label_maps, "attributes": attributes, "crowd": crowd,
}  # fmt: skip
#: What a kind may come back as: a shape as the other kind of shape, or as a map of classes.
SAME = {"masks": ("masks", "polygons", "label_maps"), "polygons": ("polygons", "masks", "label_maps")}


def test_every_kind_is_made() -> None:
    assert tuple(MADE) == KINDS
    for kind, make in MADE.items():
        assert kind in kinds_of(LabelCounts(make())), kind


@pytest.mark.parametrize("form", READ_BACK)
@pytest.mark.parametrize("kind", KINDS)
def test_what_is_said_to_be_lost_is_what_a_reader_misses(kind: str, form: str, tmp_path: Path) -> None:
    """Nothing that is gone goes unsaid, and nothing is said to be gone that is there."""
    dataset = MADE[kind]()
    lost = {loss["kind"] for loss in losses_of(dataset, form)}
    if form == "class-folders" and kind != "image_classes":
        # There is no folder for a picture without a class.
        with pytest.raises(EditionError, match="no image-level class"):
            convert(dataset, tmp_path / "out", form, accept_loss="all")
        found: set[str] = set()
    else:
        convert(dataset, tmp_path / "out", form, accept_loss="all")
        again = read_dataset(tmp_path / "out", form, ReadProblems(strict=False))
        found = set(kinds_of(LabelCounts(again)))
    there = bool(found & set(SAME.get(kind, (kind,))))
    assert there is (kind not in lost), (kind, form, lost, found)


@pytest.mark.parametrize("name", [name for name in LAYOUTS if LAYOUTS[name].form != "picture-json"])
def test_nothing_is_lost_to_a_dataset_s_own_format(name: str, tmp_path: Path) -> None:
    """Class folders to class folders, tables to tables: an export without a word about format loses no kind of label."""
    from varlen.datasets.import_options import ImportOptions

    layout = LAYOUTS[name]
    dataset = read_dataset(write_tree(tmp_path / "in", layout.files), options=ImportOptions(**layout.options))
    form = default_format(dataset)
    assert form.split("-")[0] == layout.form.split("-")[0] or form == layout.form
    record = export(dataset, make_pipeline({"step": "flip", "probability": 0.5}), tmp_path / "out", ExportSpec(variants=1))
    assert record["format"] == form
    assert "lost" not in record
    before, after = kinds_of(LabelCounts(dataset)), kinds_of(LabelCounts(read_dataset(tmp_path / "out")))
    assert set(before) == set(after)


def test_a_loss_needs_a_yes(tmp_path: Path) -> None:
    dataset = scene({"a": [{"box": [10, 10, 40, 30]}]})
    with pytest.raises(LossRefused, match=r"COCO can't hold image classes \(image_classes\) of 1 image; .* --accept-loss image_classes") as refused:
        export(dataset, make_pipeline(), tmp_path / "out", ExportSpec(variants=1, format="coco"))
    assert refused.value.lost == [{"kind": "image_classes", "images": 1}]
    assert list(tmp_path.iterdir()) == []
    record = export(dataset, make_pipeline(), tmp_path / "out", ExportSpec(variants=1, format="coco"), accept_loss=("image_classes",))
    assert record["lost"] == [{"kind": "image_classes", "images": 1}]
    assert "all image classes (image_classes) of 1 image" in (tmp_path / "out" / "README.md").read_text()
    with pytest.raises(EditionError, match="there is no kind 'colors'"):
        accepted_kinds(("colors",))
    assert check_losses(dataset, "coco", "all") == record["lost"]
    assert accepted_kinds("all") == frozenset(KINDS)


def test_fields_that_say_nothing_are_no_loss() -> None:
    rows = {"a": [{"box": [10, 10, 40, 30], "more": {"pose": "Unspecified", "difficult": 0, "truncated": 0}}]}
    assert losses_of(plain(scene(rows)), "yolo") == []
    assert losses_of(attributes(), "yolo") == [{"kind": "attributes", "objects": 1}]
