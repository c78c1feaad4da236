"""Editions: the same digest however they are made, and nothing in them unaccounted for."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path, PurePosixPath

import numpy as np
import pytest
from varlen.datasets.dataset import Dataset
from varlen.datasets.digests import labels_digest
from varlen.datasets.formats import read_dataset
from varlen.datasets.image_files import decode
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.verify import verify
from varlen.errors import EditionError
from varlen.executors import Cancelled
from varlen.kernels.pixel_digest import pixel_digest
from varlen.pipeline.document import from_json
from varlen.render.renderer import Renderer

from tests.conftest import make_pipeline
from tests.core.scenes import said

ORDER = ExportSpec(variants=2, image="png")


@pytest.fixture(scope="module")
def edition(survey_folder: Path, tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, dict]:
    document = json.loads((survey_folder / "pipelines" / "lamp-drift.varlen.json").read_text())
    out = tmp_path_factory.mktemp("editions") / "one"
    return out, export(read_dataset(survey_folder), from_json(document), out, ORDER)


def rows(folder: Path) -> list[dict]:
    return [json.loads(line) for line in (folder / "rows.jsonl").read_text().splitlines()]


def test_counts_are_exactly_as_ordered(edition: tuple[Path, dict], survey: Dataset) -> None:
    out, record = edition
    assert {split: count["images"] for split, count in record["counts"].items()} == {"train": 18, "validation": 1, "test": 1}
    assert ORDER.counts({split: count["images"] for split, count in survey.counts().items()}) == {"train": 18, "validation": 1, "test": 1}
    assert len(rows(out)) == 20
    assert [row["row"] for row in rows(out)] == list(range(20))
    assert {row["variant"] for row in rows(out) if row["split"] != "train"} == {0}
    assert record["pipeline_digest"] == from_json(record["pipeline"]).digest


def test_two_workers_write_the_same_bytes(edition: tuple[Path, dict], survey: Dataset, lamp_drift: dict, tmp_path: Path) -> None:
    out, record = edition
    again = export(survey, from_json(lamp_drift), tmp_path / "two", ORDER, workers=2)
    assert again["output_digest"] == record["output_digest"]
    assert (tmp_path / "two" / "rows.jsonl").read_bytes() == (out / "rows.jsonl").read_bytes()
    assert (tmp_path / "two" / "annotations" / "train.json").read_bytes() == (out / "annotations" / "train.json").read_bytes()


def test_another_seed_is_another_edition(edition: tuple[Path, dict], survey: Dataset, lamp_drift: dict, tmp_path: Path) -> None:
    other = export(survey, from_json(lamp_drift).with_seed(21), tmp_path / "other", ORDER)
    assert other["output_digest"] != edition[1]["output_digest"]
    assert other["dataset_digest"] == edition[1]["dataset_digest"]


def test_rows_name_the_pixels_that_are_in_the_files(edition: tuple[Path, dict], survey: Dataset, lamp_drift: dict) -> None:
    """The file decoded, the row's digest, and the variant made anew for a screen are the same pixels."""
    out, _ = edition
    renderer = Renderer(survey, from_json(lamp_drift))
    for row in rows(out):
        pixels = decode((out / row["file"]).read_bytes(), row["file"])
        sample, trace = renderer.render(row["source"], row["variant"])
        assert np.array_equal(pixels, sample.pixels)
        assert pixel_digest(pixels) == row["pixel_digest"] == trace["pixel_digest"]
        assert row["trace"]["steps"] == json.loads(json.dumps(trace["steps"]))


def test_an_interrupted_export_goes_on_to_the_same_digest(edition: tuple[Path, dict], survey: Dataset, lamp_drift: dict, tmp_path: Path) -> None:
    out = tmp_path / "broken"
    asked = iter([False, True])
    with pytest.raises(Cancelled):
        export(survey, from_json(lamp_drift), out, ORDER, stop=lambda: next(asked))
    assert not out.exists()
    seen: list[int] = []
    record = export(survey, from_json(lamp_drift), out, ORDER, resume=True, progress=lambda done, total: seen.append(done))
    assert seen[0] > 0
    assert record["output_digest"] == edition[1]["output_digest"]
    assert verify(out) == []


@pytest.mark.slow
def test_killed_in_the_middle_it_goes_on(edition: tuple[Path, dict], survey_folder: Path, survey: Dataset, lamp_drift: dict, tmp_path: Path) -> None:
    out, pipeline = tmp_path / "killed", survey_folder / "pipelines" / "lamp-drift.varlen.json"
    command = [
        sys.executable,
        "-m",
        "varlen",
        "export",
        survey_folder,
        pipeline,
        "-o",
        out,
        "--variants",
        "2",
        "--image",
        "png",
        "--workers",
        "1",
    ]
    process = subprocess.Popen(command, start_new_session=True)
    chunks = tmp_path / ".killed.varlen-part" / "chunks"
    while process.poll() is None and not (chunks.exists() and any(chunks.glob("*.jsonl"))):
        time.sleep(0.005)
    os.killpg(process.pid, signal.SIGKILL)
    process.wait()
    if not out.exists():
        subprocess.run([*command, "--resume"], check=True, capture_output=True)
    assert json.loads((out / "edition.json").read_text())["output_digest"] == edition[1]["output_digest"]


def test_resuming_something_else_is_refused(survey: Dataset, lamp_drift: dict, tmp_path: Path) -> None:
    with pytest.raises(Cancelled):
        export(survey, from_json(lamp_drift), tmp_path / "out", ORDER, stop=lambda: True)
    with pytest.raises(EditionError, match="begun with another dataset, pipeline or order"):
        export(survey, from_json(lamp_drift).with_seed(3), tmp_path / "out", ORDER, resume=True)


def test_a_folder_that_holds_anything_is_left_alone(survey: Dataset, tmp_path: Path) -> None:
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine" / "thesis.txt").write_text("two years of work")
    with pytest.raises(EditionError, match="exists and is not empty"):
        export(survey, make_pipeline(), tmp_path / "mine", ORDER)
    assert [path.name for path in tmp_path.iterdir()] == ["mine"]


def test_verify_finds_every_kind_of_damage(survey: Dataset, tmp_path: Path) -> None:
    out = tmp_path / "out"
    export(survey, make_pipeline(), out, ExportSpec(variants=0))
    assert verify(out) == []
    files = sorted(path for path in out.rglob("*") if path.is_file() and path.name != "edition.json")
    for path in files[:: max(1, len(files) // 6)]:
        data = bytearray(path.read_bytes())
        data[len(data) // 2] ^= 1
        path.write_bytes(data)
        assert any(path.relative_to(out).as_posix() in problem for problem in said(verify(out))), path
        data[len(data) // 2] ^= 1
        path.write_bytes(data)
    record = (out / "edition.json").read_text()
    for forged in (record.replace('"seed": 0', '"seed": 1'), record.replace('"output_digest": "sha256:', '"output_digest": "sha256:0')):
        (out / "edition.json").write_text(forged)
        assert any("edition.json" in problem for problem in said(verify(out)))
    (out / "edition.json").write_text(record)
    (out / "extra.txt").write_text("x")
    picture = next((out / "images" / "test").iterdir())
    picture.unlink()
    assert said(verify(out)) == ["extra.txt: not part of the edition", f"images/test/{picture.name}: missing"]


@pytest.mark.parametrize("form", ["coco", "yolo", "yolo-polygons", "yolo-keypoints", "yolo-oriented", "oriented-text", "mask-pairs", "table"])
def test_very_many_pictures_are_spread_over_folders_and_read_as_before(
    survey: Dataset, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, form: str
) -> None:
    """The same pictures with the same labels, in no folder more than there may be."""
    pipeline = make_pipeline({"step": "flip", "probability": 0.5})
    spec = ExportSpec(3, format=form)
    export(survey, pipeline, tmp_path / "flat", spec, accept_loss=["all"])
    monkeypatch.setattr("varlen.datasets.formats.base.MOST_FILES", 10)
    export(survey, pipeline, tmp_path / "spread", spec, accept_loss=["all"])
    assert verify(tmp_path / "spread") == []
    below = {path.parent.parent.name for path in (tmp_path / "spread" / "images").rglob("*.jpg")}
    assert "train" in below
    assert "images" in below  # the few of the other splits lie where they did

    def read(folder: Path) -> dict[str, object]:
        found = read_dataset(folder)
        labels = {PurePosixPath(key).name: (entry.split, labels_digest(entry, found.classes)) for key, entry in found.entries.items()}
        assert len(labels) == len(found.entries)
        return labels

    assert read(tmp_path / "spread") == read(tmp_path / "flat")
