"""Comparing editions, grids of them, and scores."""

from __future__ import annotations

import json
import math
from contextlib import suppress
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import read_dataset
from varlen.editions.edition import compare
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.record import SCORES
from varlen.editions.recreate import recreate
from varlen.editions.rows import read_rows
from varlen.editions.scores import Score, attach, read_scores, scores_of
from varlen.editions.trials import grid
from varlen.editions.verify import verify
from varlen.errors import EditionError
from varlen.pipeline.document import from_json

ORDER = ExportSpec(variants=2, image="png")


def test_two_editions_side_by_side(survey_folder: Path, survey: Dataset, lamp_drift: dict, tmp_path: Path) -> None:
    export(survey, from_json(lamp_drift), tmp_path / "a", ORDER)
    coco = json.loads((survey_folder / "annotations" / "train.json").read_text())
    other = tmp_path / "in"
    for split in ("train", "test"):
        (other / "images" / split).mkdir(parents=True)
        for picture in (survey_folder / "images" / split).iterdir():
            (other / "images" / split / picture.name).write_bytes(picture.read_bytes())
    (other / "annotations").mkdir()
    moved = coco["annotations"][0]["image_id"]
    coco["annotations"][0]["bbox"][0] += 1.0
    (other / "annotations" / "train.json").write_text(json.dumps(coco))
    (other / "annotations" / "test.json").write_bytes((survey_folder / "annotations" / "test.json").read_bytes())
    lamp_drift["steps"][1]["degrees"] = [-5, 5]
    export(read_dataset(other), from_json(lamp_drift), tmp_path / "b", ORDER)

    found = compare(tmp_path / "a", tmp_path / "b")
    assert not found["same"]
    assert not found["dataset"]["same"]
    gone = next((survey_folder / "images" / "validation").iterdir()).name
    assert found["dataset"]["images_only"] == [{"count": 1, "first": [f"images/validation/{gone}"]}, {"count": 0, "first": []}]
    name = next(image["file_name"] for image in coco["images"] if image["id"] == moved)
    assert [key.rsplit("/", 1)[1] for key in found["dataset"]["labels"]["first"]] == [Path(name).name]
    assert found["dataset"]["pictures"]["count"] == found["dataset"]["splits"]["count"] == 0
    assert [change["lines"] for change in found["pipeline"]["changes"]] == [["degrees [-12, 12] → [-5, 5]"]]
    assert found["counts"]["validation"]["images"] == [1, 0]
    assert compare(tmp_path / "a", tmp_path / "a")["same"]


def test_statistics_are_those_of_the_files(survey: Dataset, lamp_drift: dict, tmp_path: Path) -> None:
    record = export(survey, from_json(lamp_drift), tmp_path / "out", ExportSpec(variants=2, splits=("train",)))
    found = record["statistics"]
    assert list(record["counts"]) == ["train"]
    assert record["splits"] == ["train"]
    sources = [survey.entries[key].objects for key in survey.by_split()["train"]]
    assert found["before"]["train"]["objects"] == sum(map(len, sources))
    written = json.loads((tmp_path / "out" / "annotations" / "train.json").read_text())["annotations"]
    sides = [math.sqrt(each["bbox"][2] * each["bbox"][3]) for each in written]
    counts = [sum(low <= side < low * math.sqrt(2) for side in sides) for low in (2 ** (n / 2) for n in range(28))]
    after = found["box_side_px"]["after"]["train"]
    assert sum(after) == len(written)
    assert sum(abs(a - b) for a, b in zip(after, counts, strict=True)) <= 2
    rows = list(read_rows(tmp_path / "out"))
    assert found["objects"]["dropped"] == sum(len(row["trace"]["objects"]["dropped"]) for row in rows)
    assert record["counts"]["train"]["objects"] == sum(sum(row["classes"].values()) for row in rows)


def test_variants_of_other_splits_go_through_the_evaluation_line(survey: Dataset, lamp_drift: dict, tmp_path: Path) -> None:
    order = ExportSpec(variants=1, originals=False, format="coco", splits=("train", "test"), split_variants={"test": 2, "validation": 0})
    record = export(survey, from_json(lamp_drift), tmp_path / "out", order)
    assert {split: count["images"] for split, count in record["counts"].items()} == {"train": 6, "test": 3}
    assert record["split_variants"] == {"test": 2}
    tests = [row for row in read_rows(tmp_path / "out") if row["split"] == "test"]
    assert [row["variant"] for row in tests] == [0, 1, 2]
    every = {step.id for step in from_json(lamp_drift).steps if step.scope == "every"}
    assert {step["id"] for row in tests for step in row["trace"]["steps"]} == every
    assert verify(tmp_path / "out") == []
    assert all(recreate(tmp_path / "out", row, survey).identical for row in tests)
    assert ExportSpec(**ExportSpec.fields_of(record)) == order
    for wrong in ({"train": 1}, {"test": -1}):
        with pytest.raises(EditionError, match="variants of"):
            ExportSpec(split_variants=wrong)


@pytest.mark.slow
def test_a_grid_makes_what_is_missing_and_nothing_else(survey: Dataset, lamp_drift: dict, tmp_path: Path) -> None:
    pipelines = [from_json(lamp_drift), from_json({**lamp_drift, "steps": [], "name": "As it came"}), from_json({**lamp_drift, "seed": 9})]
    first = list(grid([survey], pipelines[:2], tmp_path, ORDER))
    assert [(cell.state, cell.folder.name) for cell in first] == [("made", "moths--lamp-drift"), ("made", "moths--as-it-came")]
    stamps = [(cell.folder / "edition.json").stat().st_mtime_ns for cell in first]
    again = list(grid([survey], pipelines, tmp_path, ORDER))
    assert [cell.state for cell in again] == ["there", "there", "made"]
    assert again[2].folder.name == "moths--lamp-drift-2"
    assert [(cell.folder / "edition.json").stat().st_mtime_ns for cell in first] == stamps
    refused = list(grid([survey], pipelines[:1], tmp_path, ExportSpec(variants=3, image="png")))
    assert refused[0].state == "failed"
    assert "its variants differ" in refused[0].message


def test_scores_are_read_as_trainers_write_them(survey: Dataset, lamp_drift: dict, tmp_path: Path) -> None:
    wide = "epoch, train/loss, val_mAP, time\n1, 0.9, 0.31, 3s\n2, 0.7, , 3s\n"
    assert read_scores(wide, "log.csv") == [
        Score("loss", 0.9, 1.0, "train"), Score("mAP", 0.31, 1.0, "validation"), Score("loss", 0.7, 2.0, "train"),
    ]  # fmt: skip
    long = '{"name": "mAP", "value": 0.5, "split": "test", "note": "three seeds"}\n\n{"epoch": 3, "val/loss": 0.4, "best": true}\n'
    assert read_scores(long, "log.jsonl") == [Score("mAP", 0.5, None, "test", "three seeds"), Score("loss", 0.4, 3.0, "validation")]
    for text, message in {"a\n1\n": "column names", '{"name": "x", "value": "y"}': "line 1: the value 'y'", "{": "line 1: not JSON",
                          "epoch,loss\nsoon,1\n": "line 2: the epoch 'soon'", "epoch,loss\n1,nan\n": "no score"}.items():  # fmt: skip
        with pytest.raises(EditionError, match=message):
            read_scores(text, "file")
    with pytest.raises(EditionError, match="no edition here"):
        attach(tmp_path, [Score("x", 1.0)])
    export(survey, from_json(lamp_drift), tmp_path / "out", ExportSpec(variants=0))
    attach(tmp_path / "out", [Score("mAP", 0.4, split="test"), Score("loss", 0.9, 2.0), Score("loss", 1.1, 1.0)])
    attach(tmp_path / "out", [Score("mAP", 0.5, split="test")])
    kept = [(score.name, score.epoch, score.value) for score in scores_of(tmp_path / "out")]
    assert kept == [
        ("loss", 1.0, 1.1),
        ("loss", 2.0, 0.9),
        ("mAP", None, 0.5),
    ]
    with pytest.raises(EditionError, match="not a number"):
        attach(tmp_path / "out", [Score("x", math.inf)])
    assert verify(tmp_path / "out") == []
    (tmp_path / "out" / SCORES).write_text('{"name": 1')
    with pytest.raises(EditionError, match="line 1: damaged"):
        scores_of(tmp_path / "out")


@given(st.text(max_size=200))
def test_no_text_breaks_the_reading_of_scores(text: str) -> None:
    with suppress(EditionError):
        assert all(math.isfinite(score.value) for score in read_scores(text, "file"))
