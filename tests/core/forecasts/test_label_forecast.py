"""Forecasts count what an export would write down, and ranges found keep to their budget."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
from collections import Counter
from pathlib import Path
from typing import Any

import numpy as np
import orjson
import pytest
from varlen.datasets.dataset import Dataset
from varlen.datasets.entry import Entry
from varlen.datasets.formats import read_dataset
from varlen.datasets.image_files import encode
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.recreate import recreate
from varlen.editions.rows import find_row
from varlen.errors import EditionError, PipelineError
from varlen.forecasts.affine_plans import outlined as without_masks
from varlen.forecasts.label_forecast import count_draws, forecast
from varlen.forecasts.limits import largest_range
from varlen.render.renderer import Renderer

from tests.conftest import make_pipeline

MILD = [{"step": "flip"}, {"step": "rotate", "degrees": [-40, 40]}, {"step": "crop", "mode": "random"}]
PIPELINES = {
    "one resample": MILD,
    "ellipse": [{"step": "rotate", "degrees": [-90, 90]}, {"step": "scale", "factor": [0.05, 3]}],
    "perspective": [*MILD, {"step": "perspective", "corner_fraction": [0.1, 0.1], "probability": 0.5}],
    "mosaics": [*MILD[:2], {"step": "mosaic", "probability": 0.7}, {"step": "color_jitter"}],
    "mosaics made smaller": [*MILD, {"step": "mosaic", "grid": "3x3"}, {"step": "resize", "width_px": 400, "height_px": 500, "fit": "letterbox"}],
    "mosaics cut again": [{"step": "flip"}, {"step": "mosaic", "tile_scale": [0.3, 0.9]}, {"step": "scale", "factor": [0.5, 2]}],
    "everything": [
        {"step": "elastic"},
        *MILD,
        {"step": "cutout", "size_fraction": [0.4, 0.4]},
        {"step": "mosaic", "probability": 0.4},
        {"step": "blur"},
    ],
}


@pytest.fixture
def outlined(survey: Dataset) -> Dataset:
    """The survey with outlines in place of masks."""
    for key, entry in survey.entries.items():
        survey.entries[key] = Entry(key, entry.split, entry.size, without_masks(entry.objects), entry.extra)
    return survey


@pytest.mark.parametrize("name", PIPELINES)
def test_a_forecast_counts_what_an_export_writes(outlined: Dataset, name: str) -> None:
    """The fast way through the labels, many variants at once, against the outcomes one by one."""
    survey = outlined
    rules = {"box_fit": "ellipse" if name == "ellipse" else "corners", "keep_share": 0.4, "keep_side_px": 12}
    renderer = Renderer(survey, make_pipeline(*PIPELINES[name], seed=6, labels=rules))
    images = [key for key, entry in survey.entries.items() if entry.split == "train"]
    tally = count_draws(renderer, 8 * len(images))
    kept, dropped, clipped, reasons = Counter[str](), Counter[str](), Counter[str](), Counter[tuple[str, str]]()
    keypoints, sides, blank = 0, [], []
    for image in images:
        for variant in range(1, 9):
            outcome = renderer.variant_labels(image, variant)
            objects, outcomes = outcome.objects, outcome.trace["objects"]
            kept.update(survey.classes[number] for number in objects.classes)
            dropped.update(outcome["step"] for outcome in outcomes["dropped"])
            clipped.update(outcome["step"] for outcome in outcomes["clipped_by"])
            reasons.update((outcome["step"], outcome["reason"]) for outcome in outcomes["dropped"] + outcomes["clipped_by"])
            keypoints += int((objects.keypoints[:, :, 2] > 0).sum())
            sides += np.sqrt((objects.boxes[:, 2] - objects.boxes[:, 0]) * (objects.boxes[:, 3] - objects.boxes[:, 1])).tolist()
            blank.append(outcome.trace["blank_share"])
    assert tally.kept == kept
    assert sum(tally.dropped.values()) > 5
    for counted, expected in ((tally.dropped, dropped), (tally.clipped, clipped)):
        by_step = Counter[str]()
        for (_, step), count in counted.items():
            by_step[step] += count
        assert by_step == expected
    assert tally.reasons == reasons
    assert tally.keypoints[1] == keypoints
    assert np.allclose(np.sort(np.concatenate(tally.sides[1])), np.sort(sides))
    assert np.allclose(np.sort(tally.blanks), np.sort(blank), atol=1e-4)


def test_what_a_mirror_makes_of_a_class_is_counted_as_that(outlined: Dataset) -> None:
    """Left and right change places, in one move and in the tiles of a mosaic."""
    first, second = outlined.classes[:2]
    outlined.mirror_classes = {first: second, second: first}
    for steps in ([{"step": "flip"}, {"step": "rotate"}], [{"step": "flip"}, {"step": "mosaic"}]):
        renderer = Renderer(outlined, make_pipeline(*steps))
        images = [key for key, entry in outlined.entries.items() if entry.split == "train"]
        kept, before = Counter[str](), Counter[str]()
        for image in images:
            for variant in range(1, 9):
                outcome = renderer.variant_labels(image, variant)
                kept.update(outlined.classes[number] for number in outcome.objects.classes)
                names = [*zip(outcome.objects.images, outcome.objects.ids, strict=True)]
                names += [(each["image"], each["id"]) for each in outcome.trace["objects"]["dropped"]]
                for source, name in names:
                    objects = outlined.entries[source].objects
                    before[outlined.classes[objects.classes[objects.ids.index(name)]]] += 1
        tally = count_draws(renderer, 8 * len(images))
        assert (tally.kept, tally.before) == (kept, before)


def test_masks_are_forecast_by_their_outlines(survey: Dataset) -> None:
    renderer = Renderer(survey, make_pipeline(*MILD, labels={"keep_share": 0.4}))
    assert any(mask is not None for entry in survey.entries.values() for mask in entry.objects.masks)
    images = [key for key, entry in survey.entries.items() if entry.split == "train"]
    tally = count_draws(renderer, 20 * len(images))
    kept = sum(len(renderer.variant_labels(image, variant).objects) for image in images for variant in range(1, 21))
    assert sum(tally.kept.values()) == pytest.approx(kept, rel=0.01)


def test_the_report_adds_up(survey: Dataset) -> None:
    report = json.loads(json.dumps(forecast(survey, make_pipeline(*PIPELINES["everything"], labels={"keep_share": 0.5}), 60)))
    objects = report["objects"]
    assert report["variants"] == 60
    assert objects["before"] == objects["kept"] + objects["clipped"] + objects["dropped"]
    for name in ("clipped", "dropped"):
        assert objects[name] == sum(step[name] for step in report["steps"].values()) == sum(cls[name] for cls in report["classes"].values())
    assert sum(cls["balance_before"] for cls in report["classes"].values()) == pytest.approx(1, abs=1e-4)
    for step in report["steps"].values():
        assert sum(step["reasons"].values()) == step["clipped"] + step["dropped"]
    assert report["keypoints"]["after"] < report["keypoints"]["before"]


@pytest.mark.parametrize(("parameter", "log"), [("rotate.degrees", False), ("zoom.factor", True), ("shift.x_fraction", False)])
def test_the_largest_range_keeps_to_the_budget_and_no_wider_one_does(survey: Dataset, parameter: str, log: bool) -> None:
    steps = [
        {"step": "rotate", "degrees": [0, 0]},
        {"id": "zoom", "step": "scale", "factor": [1, 1]},
        {"step": "shift", "x_fraction": [0, 0], "y_fraction": [0, 0]},
    ]
    pipeline = make_pipeline(*steps, labels={"keep_share": 0.5})
    answer = largest_range(survey, pipeline, parameter, 0.04, draws=120)
    low, high = answer["ends"]
    assert low * high == pytest.approx(1, rel=1e-2) if log else low == -high
    assert answer["lost_share"] <= 0.04

    def loss(low: float, high: float) -> float:
        identifier, name = parameter.split(".")
        changed = [{**step, name: [low, high]} if step.get("id", step["step"]) == identifier else step for step in steps]
        return count_draws(Renderer(survey, make_pipeline(*changed, labels={"keep_share": 0.5})), 120).lost_share

    assert loss(low, high) <= 0.04
    wider = (low / 1.08, high * 1.08) if log else (low * 1.15, high * 1.15)
    assert loss(*wider) > 0.04


def test_ranges_that_can_t_be_looked_for_are_explained(survey: Dataset) -> None:
    pipeline = make_pipeline({"step": "rotate", "id": "tilt"})
    for parameter, message in (("tlit.degrees", "no step with the id 'tlit'; known are tilt"), ("tilt.frame", "its ranges are degrees")):
        with pytest.raises(PipelineError, match=message):
            largest_range(survey, pipeline, parameter, 0.02)


@pytest.fixture
def edition(survey: Dataset, lamp_drift: dict[str, Any], tmp_path: Path) -> Path:
    from varlen.pipeline.document import from_json

    export(survey, from_json(lamp_drift), tmp_path / "edition", ExportSpec(variants=2))
    return tmp_path / "edition"


def test_every_row_of_an_edition_can_be_made_again(edition: Path, survey: Dataset) -> None:
    rows = [orjson.loads(line) for line in (edition / "rows.jsonl").read_bytes().splitlines()]
    for row in rows:
        made = recreate(edition, row, survey)
        assert made.identical, made.differences
        assert made.data == (edition / row["file"]).read_bytes()


@pytest.mark.slow
def test_the_recreate_command(edition: Path, survey_folder: Path, tmp_path: Path) -> None:
    def run(*words: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run([sys.executable, "-m", "varlen", "recreate", str(edition), *words], capture_output=True, text=True)

    row = find_row(edition, "4")
    done = run("4", "-o", str(tmp_path / "again.jpg"))
    assert (done.returncode, done.stdout) == (0, f"{row['file']}: identical\n")
    assert (tmp_path / "again.jpg").read_bytes() == (edition / row["file"]).read_bytes()
    assert "there is no row 99999" in run("99999").stderr
    moved = tmp_path / "moved"
    shutil.copytree(survey_folder, moved)
    assert json.loads(run(row["file"], "--dataset", str(moved), "--json").stdout)["identical"]
    record = json.loads((edition / "edition.json").read_text())
    (edition / "edition.json").write_text(json.dumps({**record, "dataset_path": "/gone"}))
    assert "name it with --dataset" in run("4").stderr
    (moved / row["source"]).write_bytes(encode(np.zeros((720, 960, 3), np.uint8), "jpeg"))
    assert f"{row['source']}: the source picture has changed" in run("4", "--dataset", str(moved)).stderr


def test_what_is_not_as_it_was_is_named(edition: Path, survey: Dataset) -> None:
    """Other bytes from another codec, other pixels, other labels: each is said."""
    row = find_row(edition, "3")
    other = recreate(edition, {**row, "file_sha256": "0" * 64}, survey)
    assert other.differences == ["the pixels are identical, the file's bytes differ: another version of the image library"]
    assert "the pixels differ" in recreate(edition, {**row, "pixel_digest": "sha256:0"}, survey).differences
    trace = json.loads(json.dumps(row["trace"]))
    trace["objects"]["kept"] += 1
    assert recreate(edition, {**row, "trace": trace}, survey).differences == ["the trace differs in objects"]
    with pytest.raises(EditionError, match="has changed since"):
        recreate(edition, {**row, "source_sha256": "0" * 64}, survey)
    assert read_dataset(json.loads((edition / "edition.json").read_text())["dataset_path"]).digest() == survey.digest()
