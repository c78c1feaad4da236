"""Comparing editions, grids of them, scores, and samples for training."""

from __future__ import annotations

import json
import math
import pickle
from concurrent.futures import ProcessPoolExecutor
from contextlib import suppress
from multiprocessing import get_context
from pathlib import Path

import numpy as np
import pytest
import varlen
from hypothesis import given
from hypothesis import strategies as st
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import read_dataset
from varlen.datasets.image_files import decode
from varlen.datasets.summary import channel_statistics
from varlen.editions.compare import compare
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.record import SCORES
from varlen.editions.recreate import recreate
from varlen.editions.rows import read_rows
from varlen.editions.scores import Score, attach, read_scores, scores_of
from varlen.editions.trials import grid
from varlen.editions.verify import verify
from varlen.errors import EditionError, VarlenError
from varlen.pipeline.document import from_json

from tests.conftest import make_pipeline

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
    order = ExportSpec(variants=1, originals=False, splits=("train", "test"), split_variants={"test": 2, "validation": 0})
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


def _sample(source: object, number: int) -> tuple[bytes, bytes]:
    sample = source[number]  # type: ignore[index]
    return sample["image"].tobytes(), sample["boxes"].tobytes()


def test_samples_are_the_edition_s_images(survey: Dataset, lamp_drift: dict, tmp_path: Path) -> None:
    export(survey, from_json(lamp_drift), tmp_path / "out", ORDER)
    rows = {(row["source"], row["variant"]): row for row in read_rows(tmp_path / "out")}
    for epoch in (0, 1):
        samples = varlen.stream(survey, lamp_drift, "train", epoch)
        assert len(samples) == 6
        for sample in (samples[n] for n in range(6)):
            row = rows[sample["key"], epoch + 1]
            file = (tmp_path / "out" / row["file"]).read_bytes()
            assert np.array_equal(sample["image"], decode(file, "file"))
            assert len(sample["boxes"]) == len(sample["classes"]) == sum(row["classes"].values())
    evaluation = varlen.stream(survey, lamp_drift, "validation", 5)
    assert evaluation[0]["variant"] == 0
    assert np.array_equal(evaluation[0]["image"], varlen.stream(survey, lamp_drift, "validation")[-1]["image"])


def test_samples_are_the_same_in_any_process_and_order(survey_folder: Path, lamp_drift: dict) -> None:
    samples = varlen.stream(survey_folder, lamp_drift, epoch=3, channels="first")
    here = [_sample(samples, n) for n in reversed(range(len(samples)))][::-1]
    with ProcessPoolExecutor(2, get_context("forkserver")) as pool:
        assert list(pool.map(_sample, [pickle.loads(pickle.dumps(samples))] * len(samples), range(len(samples)))) == here
    samples.set_epoch(4)
    assert _sample(samples, 0) != here[0]
    assert samples[0]["image"].shape == (3, 480, 640)


def test_normalised_samples_and_batches(survey: Dataset) -> None:
    pipeline = make_pipeline({"id": "fit", "step": "resize", "width_px": 64, "height_px": 48, "scope": "every"})
    plain, scaled = varlen.stream(survey, pipeline), varlen.stream(survey, pipeline, normalized=True, channels="first")
    mean, deviation = (np.array(values, np.float32) for values in channel_statistics(survey, lambda: None))
    assert np.allclose(scaled[2]["image"].transpose(1, 2, 0), (plain[2]["image"] - mean) / deviation, atol=1e-5)
    samples = [plain[n] for n in range(4)]
    padded, ragged = varlen.batch(samples), varlen.batch(samples, "ragged")
    assert padded["image"].shape == (4, 48, 64, 3)
    for place, sample in enumerate(samples):
        count = padded["counts"][place]
        assert np.array_equal(padded["boxes"][place, :count], sample["boxes"])
        assert (padded["classes"][place, count:] == -1).all()
        part = slice(ragged["starts"][place], ragged["starts"][place + 1])
        assert np.array_equal(ragged["boxes"][part], sample["boxes"])
        assert np.array_equal(ragged["keypoints"][part], sample["keypoints"])
    with pytest.raises(VarlenError, match="pictures of one size"):
        varlen.batch([plain[0], {**plain[0], "image": plain[0]["image"][:10]}])
    with pytest.raises(VarlenError, match="no image is in the split 'night'"):
        varlen.stream(survey, pipeline, "night")
    untouched = varlen.stream(survey, make_pipeline())
    untouched[0]["image"][:] = 0
    assert untouched[0]["image"].any()  # what is given is the caller's own


@pytest.mark.parametrize(
    "steps",
    [
        [{"step": "normalize", "mean": [90, 80, 70]}],
        [{"step": "normalize", "std": [50, 40, 30]}],
        [{"step": "normalize", "mean": [90, 80, 70], "std": [2, 3, 4]}, {"step": "normalize", "mean": [1, 2, 3], "std": [5, 6, 7]}],
        [{"step": "normalize", "mean": [1, 1, 1], "std": [9, 9, 9], "enabled": False}, {"step": "normalize", "mean": [90, 80, 70]}],
        [{"step": "normalize"}, {"step": "normalize", "mean": [0, 1, 2], "std": [3, 3, 3]}],
    ],
)
def test_stream_and_array_export_normalize_alike(survey: Dataset, tmp_path: Path, steps: list[dict]) -> None:
    """What a step leaves unnamed is the training split's own; several steps follow one another."""
    pipeline = make_pipeline({"step": "resize", "width_px": 24, "height_px": 18}, *steps)
    export(survey, pipeline, tmp_path / "out", ExportSpec(variants=1, originals=False, format="npz", splits=("train",)))
    written = np.load(tmp_path / "out" / "shards" / "train-00000.npz")["images"]
    streamed = np.stack([sample["image"] for sample in varlen.stream(survey, pipeline, normalized=True)])
    assert np.array_equal(written, streamed)
    plain = np.stack([sample["image"] for sample in varlen.stream(survey, pipeline)]).astype(np.float64)
    levels = np.concatenate([survey.pixels(key).reshape(-1, 3) for key in survey.by_split()["train"]]).astype(np.float64)
    for step in steps:
        if step.get("enabled", True):
            plain = (plain - step.get("mean", levels.mean(axis=0))) / step.get("std", levels.std(axis=0))
    assert np.allclose(written, plain, atol=2e-3)
