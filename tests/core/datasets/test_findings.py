"""Findings: the flawed survey's every flaw, signs of a wrong convention, and quiet where nothing is wrong."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from varlen.datasets.findings import Finding, check_dataset, likeness_hash
from varlen.datasets.formats import read_dataset
from varlen.datasets.image_files import encode
from varlen.demo.variants import write_variant
from varlen.errors import DatasetError, ReadProblems
from varlen.kernels.resample import shrunk

from tests.conftest import write_coco


def found_in(folder: Path, form: str | None = None) -> dict[str, Finding]:
    problems = ReadProblems(strict=False)
    return {finding.kind: finding for finding in check_dataset(read_dataset(folder, form, problems), problems)}


def test_every_flaw_of_the_flawed_survey_is_found_once(flawed_folder: Path) -> None:
    found = found_in(flawed_folder)
    for kind, place in (
        ("missing-file", "night_0003.jpg"), ("damaged-file", "night_0004.jpg"), ("unknown-class", "category 99 does not exist"),
        ("box-outside", "night_0001.jpg"), ("box-empty", "night_0002.jpg"), ("duplicate-across-splits", "again.jpg"),
        ("exif-turned", "night_0007.jpg"),
        ("gray", "night_0008.png"), ("16-bit", "night_0009.png"), ("wrong-suffix", "renamed.png"),
    ):  # fmt: skip
        assert found[kind].count == 1, kind
        assert place in found[kind].examples[0]
        assert found[kind].why
        assert found[kind].remedy
    severities = [finding.severity for finding in found.values()]
    assert severities == sorted(severities, key=["error", "warning", "note"].index)
    with pytest.raises(DatasetError, match=r"night_0003.jpg is listed, but there is no such file"):
        read_dataset(flawed_folder)  # read in earnest, the first of them stops it


@pytest.mark.slow
def test_the_terminal_says_the_same_and_fails_where_asked(flawed_folder: Path, survey_folder: Path) -> None:
    def run(folder: Path, *words: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run([sys.executable, "-m", "varlen", "inspect", str(folder), *words], capture_output=True, text=True)

    done = run(flawed_folder, "--findings", "--json")
    assert done.returncode == 0
    assert {finding["kind"] for finding in json.loads(done.stdout)["findings"]} == set(found_in(flawed_folder))
    assert run(flawed_folder, "--fail-on", "error").returncode == 1
    assert run(survey_folder, "--fail-on", "error").returncode == 0
    assert "expected error, warning, note" in run(survey_folder, "--fail-on", "anything").stderr


def boxes_file(folder: Path, boxes: list[list[float]], **more: Any) -> Path:
    image = {
        "id": 1,
        "file_name": "a.png",
        "width": 200,
        "height": 100,
        "pixels": np.random.default_rng(0).integers(0, 256, (100, 200, 3)).astype(np.uint8),
    }
    annotations = [{"id": n, "image_id": 1, "category_id": 1, "bbox": box, **more} for n, box in enumerate(boxes, 1)]
    return write_coco(folder, [image], annotations, categories=[{"id": 1, "name": "moth"}, {"id": 2, "name": "nobody"}])


def test_signs_of_another_box_convention(tmp_path: Path) -> None:
    rng = np.random.default_rng(1)
    centres = rng.uniform([20, 20], [180, 80], (20, 2))
    fractions = boxes_file(tmp_path / "a", [[x / 200, y / 100, 0.1, 0.1] for x, y in centres])
    assert "boxes-are-fractions" in found_in(fractions)
    read_as_corners = boxes_file(tmp_path / "b", [[x, y, 60, 40] for x, y in centres])
    assert "boxes-are-centres" in found_in(read_as_corners)
    right = found_in(boxes_file(tmp_path / "c", [[x - 15, y - 15, 30, 30] for x, y in centres]))
    assert not {"boxes-are-fractions", "boxes-are-centres"} & set(right)


def test_suspicious_labels(tmp_path: Path) -> None:
    bow = [[10, 10, 60, 60, 60, 10, 10, 60]]
    found = found_in(boxes_file(tmp_path / "a", [[10, 10, 50, 50], [10, 10, 50, 50], [5, 5, 190, 3]], segmentation=bow))
    assert found["box-duplicate"].count == 1
    assert found["box-extreme"].count == 1
    assert found["outline-crossing"].count == 3
    assert found["class-unused"].examples == ["nobody"]


def test_pictures_that_look_alike_are_found_at_other_sizes_and_lights() -> None:
    y, x = np.mgrid[0:90, 0:120]
    scene = (128 + 60 * np.sin(x / 17)[..., None] + 50 * np.cos(y / 11 + x / 40)[..., None] * [1, 0.9, 0.8]).clip(0, 255).astype(np.uint8)
    other = (128 + 60 * np.sin(y / 9)[..., None] + 50 * np.cos(x / 13)[..., None] * [1, 1, 1]).clip(0, 255).astype(np.uint8)

    def apart(one: np.ndarray, two: np.ndarray) -> int:
        return (likeness_hash(one) ^ likeness_hash(two)).bit_count()

    assert apart(scene, shrunk(scene, 70, 52)) <= 3
    assert apart(scene, (scene * 0.8).astype(np.uint8)) <= 3
    assert apart(scene, other) > 10


@pytest.mark.parametrize("form", ["voc", "yolo-keypoints", "class-folders", "mask-pairs"])
def test_the_survey_in_every_form_is_read_and_found_sound(survey_folder: Path, tmp_path: Path, form: str) -> None:
    write_variant(survey_folder, tmp_path / form, form)
    dataset = read_dataset(tmp_path / form)
    assert dataset.format == form.split("-keypoints")[0]
    assert dataset.splits() == ["train", "validation", "test"]
    if form == "mask-pairs":
        levels = [np.unique(dataset.label_map(key)) for key in dataset.entries]
        assert set(np.concatenate(levels).tolist()) == {0, 1, 2}
    if form == "class-folders":
        assert all(len(entry.classes) == 1 for entry in dataset.entries.values())
    assert not [finding for finding in found_in(tmp_path / form).values() if finding.severity == "error"]


@pytest.mark.parametrize(
    ("name", "data", "message"),
    [
        ("deep.json", b'{"images": ' + b"[" * 2000 + b"]" * 2000 + b', "annotations": [], "categories": []}', "not JSON"),
        ("vast.png", encode(np.zeros((1, 1, 3), np.uint8), "png")[:16] + (60000).to_bytes(4, "big") * 2 + b"\x08\x02\x00\x00\x00", ""),
    ],
)
def test_hostile_files_are_refused(tmp_path: Path, name: str, data: bytes, message: str) -> None:
    if name.endswith(".json"):
        (tmp_path / name).write_bytes(data)
        with pytest.raises(DatasetError, match=message):
            read_dataset(tmp_path)
        return
    folder = boxes_file(tmp_path, [[1, 1, 5, 5]])
    (folder / "images" / "train" / "a.png").write_bytes(data)
    assert found_in(folder)["damaged-file"].count == 1
