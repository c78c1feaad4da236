"""COCO in and out: nothing changes that should not, and other readers agree."""

from __future__ import annotations

import contextlib
import io
import json
import zipfile
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pycocotools import mask as reader_masks
from pycocotools.coco import COCO
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import read_dataset
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.errors import DatasetError
from varlen.shapes import rle
from varlen.shapes.objects_json import objects_from_json, objects_to_json

from tests.conftest import make_pipeline, write_coco

BLACK = np.zeros((60, 80, 3), np.uint8)
IMAGE = {"id": 5, "file_name": "a.png", "width": 80, "height": 60}
BOX = {"id": 1, "image_id": 5, "category_id": 1, "bbox": [10, 10, 20, 20], "area": 400, "iscrowd": 0}
PLAIN = [{"id": 1, "name": "moth"}]
NOTHING = make_pipeline()


def quiet(path: Path) -> COCO:
    with contextlib.redirect_stdout(io.StringIO()):
        return COCO(str(path))


@settings(max_examples=150)
@given(st.data())
def test_run_lengths_agree_with_another_reader(data: st.DataObject) -> None:
    height, width = data.draw(st.integers(1, 25)), data.draw(st.integers(1, 25))
    bits = data.draw(st.lists(st.booleans(), min_size=height * width, max_size=height * width))
    mask = np.array(bits, np.uint8).reshape(height, width)
    text = reader_masks.encode(np.asfortranarray(mask))["counts"].decode()
    assert rle.encode(mask) == text
    assert np.array_equal(rle.mask_of(rle.expand(text), height, width), mask)
    left, top, right, bottom = (data.draw(st.integers(0, 4)) for _ in range(4))
    frame = np.pad(mask, ((top, bottom), (left, right)))
    inside = rle.encode(mask, left, top, (frame.shape[1], frame.shape[0]))
    assert inside == reader_masks.encode(np.asfortranarray(frame))["counts"].decode()


@given(st.text(alphabet=[chr(n) for n in range(40, 130)], max_size=30))
def test_damaged_run_lengths_are_refused_not_crashed_on(text: str) -> None:
    with contextlib.suppress(ValueError):
        rle.mask_of(rle.expand(text), 9, 9)


@pytest.mark.slow
def test_ten_exports_later_nothing_has_crept(survey: Dataset, survey_folder: Path, tmp_path: Path) -> None:
    """Labels, unknown fields, classes and splits through ten rounds of writing and reading."""
    dataset = survey
    for turn in range(10):
        out = tmp_path / str(turn)
        export(dataset, NOTHING, out, ExportSpec(variants=0))
        dataset = read_dataset(out)
    assert dataset.counts() == survey.counts()
    for split in survey.splits():
        before = json.loads((survey_folder / "annotations" / f"{split}.json").read_text())
        after = json.loads((tmp_path / "9" / "annotations" / f"{split}.json").read_text())
        assert before["categories"] == after["categories"]
        assert before["info"] == after["info"]
        for old, new in zip(before["annotations"], after["annotations"], strict=True):
            assert np.allclose(old["bbox"], new["bbox"], atol=1e-4)
            assert np.allclose(old["keypoints"], new["keypoints"], atol=1e-4)
            if isinstance(old["segmentation"], dict):
                assert old["segmentation"] == new["segmentation"]
            else:
                assert all(np.allclose(a, b, atol=1e-4) for a, b in zip(old["segmentation"], new["segmentation"], strict=True))


def test_unknown_fields_crowd_and_open_run_lengths_are_kept(tmp_path: Path) -> None:
    crowd = {**BOX, "iscrowd": 1, "segmentation": {"size": [60, 80], "counts": [600, 30, 4170]}, "observer": "lamp two", "sure": 0.7}
    folder = write_coco(tmp_path / "in", [{**IMAGE, "pixels": BLACK, "night": 3}], [crowd], categories=PLAIN)
    export(read_dataset(folder), NOTHING, tmp_path / "out", ExportSpec(variants=0))
    written = json.loads((tmp_path / "out" / "annotations" / "train.json").read_text())
    assert written["images"][0]["night"] == 3
    annotation = written["annotations"][0]
    assert (annotation["observer"], annotation["sure"], annotation["iscrowd"]) == ("lamp two", 0.7, 1)
    assert rle.expand(annotation["segmentation"]["counts"]) == [600, 30, 4170]


def test_an_edition_is_read_by_another_reader(survey: Dataset, lamp_drift: dict, tmp_path: Path) -> None:
    from varlen.pipeline.document import from_json

    record = export(survey, from_json(lamp_drift), tmp_path / "out", ExportSpec(variants=2))
    for split, count in record["counts"].items():
        labels = quiet(tmp_path / "out" / "annotations" / f"{split}.json")
        assert len(labels.getImgIds()) == count["images"]
        assert len(labels.getAnnIds()) == count["objects"]
        for annotation in labels.loadAnns(labels.getAnnIds()):
            mask = labels.annToMask(annotation)
            image = labels.loadImgs(annotation["image_id"])[0]
            assert mask.shape == (image["height"], image["width"])
            assert mask.sum() == pytest.approx(annotation["area"], rel=0.25, abs=40)
            x, y, width, height = annotation["bbox"]
            assert mask[max(int(y) - 1, 0) : int(y + height) + 2, max(int(x) - 1, 0) : int(x + width) + 2].sum() == mask.sum()


@pytest.mark.parametrize(
    ("image", "annotation", "message"),
    [
        ({"file_name": "gone.png", "pixels": None}, {}, "annotations/train.json: image gone.png is listed, but there is no such file"),
        ({}, {"category_id": 9}, "annotations/train.json: annotation 1 .*: category 9 does not exist"),
        ({}, {"bbox": [1, 1, -3, 4]}, "annotations/train.json: annotation 1 .*: bbox has a negative size, -3 × 4"),
        ({}, {"bbox": [1, 1, "3", 4]}, "bbox must be four numbers"),
        ({}, {"image_id": 8}, "annotation 1 names image 8, which is not among its images"),
        ({}, {"segmentation": [[1, 2, 3]]}, "a polygon needs at least three points"),
        ({}, {"segmentation": {"size": [60, 80], "counts": [5]}}, "neither polygons nor a run-length mask"),
        ({}, {"segmentation": {"size": [6, 8], "counts": "0"}}, "mask of 8×6 px in a picture of 80×60 px"),
        ({"width": 0}, {}, "width and height must be whole numbers above 0"),
    ],
)
def test_broken_labels_are_refused_by_file_and_place(tmp_path: Path, image: dict, annotation: dict, message: str) -> None:
    folder = write_coco(tmp_path, [{**IMAGE, "pixels": BLACK, **image}], [{**BOX, **annotation}], categories=PLAIN)
    with pytest.raises(DatasetError, match=message):
        read_dataset(folder)


def test_a_folder_a_file_and_a_zip_are_the_same_dataset(survey: Dataset, survey_folder: Path, tmp_path: Path) -> None:
    with zipfile.ZipFile(tmp_path / "moths.zip", "w") as archive:
        for path in survey_folder.rglob("*"):
            archive.write(path, Path("wrapped") / path.relative_to(survey_folder))
    zipped = read_dataset(tmp_path / "moths.zip")
    assert zipped.digest() == survey.digest()
    assert list(zipped.entries) == list(survey.entries)
    one = read_dataset(survey_folder / "annotations" / "test.json")
    assert one.splits() == ["test"]


@pytest.mark.parametrize("name", ["../outside.png", "/etc/outside.png", "a\\..\\b.png"])
def test_zips_that_lead_elsewhere_are_refused(tmp_path: Path, name: str) -> None:
    with zipfile.ZipFile(tmp_path / "bad.zip", "w") as archive:
        archive.writestr("annotations/train.json", "{}")
        archive.writestr(name, b"x")
    with pytest.raises(DatasetError, match="leads out of the archive"):
        read_dataset(tmp_path / "bad.zip")


def test_a_zip_that_swells_is_refused(tmp_path: Path) -> None:
    with zipfile.ZipFile(tmp_path / "bomb.zip", "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("annotations/train.json", b" " * (64 << 20))
    with pytest.raises(DatasetError, match="unpacks to"):
        read_dataset(tmp_path / "bomb.zip")


def test_objects_survive_a_database(survey: Dataset) -> None:
    for entry in survey.entries.values():
        text = json.dumps(objects_to_json(entry.objects, survey.classes))
        back = objects_from_json(json.loads(text), survey.classes, entry.key)
        assert json.dumps(objects_to_json(back, survey.classes)) == text
        assert np.array_equal(back.boxes, entry.objects.boxes)


def test_the_snapshot_depends_on_content_and_not_on_names(survey: Dataset, survey_folder: Path, tmp_path: Path) -> None:
    labels = json.loads((survey_folder / "annotations" / "test.json").read_text())
    import shutil

    shutil.copytree(survey_folder, tmp_path / "copy")
    path = tmp_path / "copy" / "annotations" / "test.json"
    first = labels["images"][0]["file_name"]
    (tmp_path / "copy" / "images" / "test" / first).rename(tmp_path / "copy" / "images" / "test" / "renamed.jpg")
    labels["images"][0]["file_name"] = "renamed.jpg"
    path.write_text(json.dumps(labels))
    assert read_dataset(tmp_path / "copy").digest() == survey.digest()
    labels["annotations"][0]["bbox"][0] += 0.5
    path.write_text(json.dumps(labels))
    assert read_dataset(tmp_path / "copy").digest() != survey.digest()


@pytest.mark.parametrize(
    ("rings", "area"),
    [
        ([[0, 0, 20, 0, 20, 10, 0, 10]], 200.0), ([[0, 0, 20, 20, 20, 0, 0, 20]], 200.0),
        ([[0, 0, 20, 0, 20, 10, 0, 10], [10, 0, 30, 0, 30, 10, 10, 10]], 300.0), ([[0, 0, 9, 0, 9, 9, 0, 9], [20, 0, 29, 0, 29, 9, 20, 9]], 162.0),
    ],
)  # fmt: skip
def test_the_area_that_is_written_is_the_area_that_is_covered(tmp_path: Path, rings: list[list[float]], area: float) -> None:
    """Of rings that cross themselves or one another too."""
    from varlen.datasets.convert import convert

    image = {"id": 1, "file_name": "a.png", "width": 40, "height": 30, "pixels": np.zeros((30, 40, 3), np.uint8)}
    annotation = {"id": 1, "image_id": 1, "category_id": 1, "bbox": [0, 0, 30, 20], "segmentation": rings, "iscrowd": 0}
    convert(read_dataset(write_coco(tmp_path / "in", [image], [annotation])), tmp_path / "out")
    written = json.loads((tmp_path / "out" / "annotations" / "train.json").read_text())["annotations"][0]
    assert written["area"] == pytest.approx(area)
