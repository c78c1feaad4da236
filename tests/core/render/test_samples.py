"""Samples for training: the edition's pictures and labels, in any process and order."""

from __future__ import annotations

import pickle
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from pathlib import Path

import numpy as np
import pytest
import varlen
from varlen.datasets.dataset import Dataset
from varlen.datasets.image_files import decode
from varlen.datasets.summary import channel_statistics
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.rows import read_rows
from varlen.errors import VarlenError
from varlen.pipeline.document import from_json

from tests.conftest import make_pipeline

ORDER = ExportSpec(variants=2, image="png")


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
    pipeline = make_pipeline({"id": "fit", "step": "resize", "width_px": 64, "height_px": 48, "scope": "every"}, {"step": "normalize"})
    plain, scaled = varlen.stream(survey, pipeline, normalized=False), varlen.stream(survey, pipeline, channels="first")
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
    export(survey, pipeline, tmp_path / "out", ExportSpec(variants=1, originals=False, format="npz", splits=("train",)), accept_loss=("all",))
    written = np.load(tmp_path / "out" / "shards" / "train-00000.npz")["images"]
    streamed = np.stack([sample["image"] for sample in varlen.stream(survey, pipeline)])
    assert np.array_equal(written, streamed)
    plain = np.stack([sample["image"] for sample in varlen.stream(survey, pipeline, normalized=False)]).astype(np.float64)
    levels = np.concatenate([survey.pixels(key).reshape(-1, 3) for key in survey.by_split()["train"]]).astype(np.float64)
    for step in steps:
        if step.get("enabled", True):
            plain = (plain - step.get("mean", levels.mean(axis=0))) / step.get("std", levels.std(axis=0))
    assert np.allclose(written, plain, atol=2e-3)
