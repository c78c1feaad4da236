"""What labels carry beside their shapes is kept, and shapes that JSON files, VOC and COCO hold in their own ways are read and written as meant."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from varlen.datasets import image_files, prepared_files
from varlen.datasets.convert import convert
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import read_dataset
from varlen.datasets.import_options import ImportOptions
from varlen.errors import DatasetError, ReadProblems

from tests.core.datasets.test_doubts import FLAT, PHOTO, png, tiff, write

PICTURE = {"images/1.png": png(PHOTO)}
BOXED = "file,label,x1,y1,x2,y2,track,score,occluded,note,frame\nimages/1.png,moth,2,3,10,12,007,0.5,true,,4\n"


def read(folder: Path, more: dict[str, bytes | str], **options: Any) -> tuple[Dataset, dict[str, str]]:
    problems = ReadProblems()
    return read_dataset(write(folder, {**PICTURE, **more}), problems=problems, **options), dict(problems.remarked)


def test_columns_without_a_meaning_stay_with_their_object_or_picture(tmp_path: Path) -> None:
    found, said = read(tmp_path / "boxes", {"labels.csv": BOXED})
    assert found.entries["images/1.png"].objects.attributes == ({"track": "007", "score": 0.5, "occluded": True, "frame": 4},)
    assert said["fields"] == "columns kept as attributes: track, score, occluded, frame"
    whole, _ = read(tmp_path / "whole", {"labels.jsonl": '{"file": "images/1.png", "label": "moth", "clip": "a", "tags": [1, 2]}\n'})
    assert whole.entries["images/1.png"].extra == {"clip": "a", "tags": [1, 2]}
    convert(found, tmp_path / "coco", "coco", accept_loss=())
    (written,) = json.loads((tmp_path / "coco" / "annotations" / "train.json").read_text())["annotations"]
    assert {name: written[name] for name in ("track", "score", "occluded", "frame")} == found.entries["images/1.png"].objects.attributes[0]
    assert convert(found, tmp_path / "yolo", "yolo", accept_loss=("attributes",)) is not None


SHAPES: list[tuple[dict[str, Any], str]] = [
    ({"shape_type": "rectangle", "points": [[2, 3], [10, 12]]}, "box"),
    ({"shape_type": "circle", "points": [[12, 10], [15, 14]]}, "outline"),
    ({"type": "rotated rectangle", "points": [[10, 4], [16, 8], [14, 11], [8, 7]]}, "turned"),
    ({"shape_type": "polygon", "points": [[2, 3], [10, 3], [6, 9]]}, "outline"),
    ({"shape_type": "linestrip", "points": [[2, 3], [10, 3], [6, 9]]}, ""),
    ({"shape_type": "line", "points": [[2, 3], [10, 3]]}, ""),
    ({"shape_type": "point", "points": [[2, 3]]}, ""),
]


@pytest.mark.parametrize(("item", "becomes"), SHAPES)
def test_items_of_json_become_what_they_say_they_are(tmp_path: Path, item: dict[str, Any], becomes: str) -> None:
    found, said = read(tmp_path / "set", {"images/1.json": json.dumps({"shapes": [{"label": "moth", "occluded": 1, **item}]})})
    objects = found.entries["images/1.png"].objects
    assert len(objects) == bool(becomes)
    assert ("no-object" in said) is not bool(becomes)
    if not becomes:
        assert "s of JSON files are no objects and are left out, such as images/1.json: item 1" in said["no-object"]
        return
    assert objects.attributes[0]["occluded"] == 1
    outline = objects.outlines.polygon(0)
    assert bool(outline) is (becomes in ("outline", "turned"))  # the outline of a turned box is its corners
    if item.get("shape_type") == "circle":
        assert outline is not None
        assert np.allclose(np.hypot(*(outline[0].outline - [12, 10]).T), 5)
        assert objects.boxes[0].tolist() == pytest.approx([7, 5, 17, 15], abs=0.03)
    if becomes == "turned":
        assert objects.oriented.corners.tolist() == [item["points"]]


def test_label_maps_keep_their_names_through_voc(tmp_path: Path) -> None:
    table = json.dumps({"0": {"name": "background"}, "1": {"name": "moth"}, "2": {"name": "lamp"}})
    found, _ = read(tmp_path / "set", {"masks/1.png": png(FLAT), "classes.json": table})
    convert(found, tmp_path / "voc", "voc", accept_loss=("all",))
    again = read_dataset(tmp_path / "voc")
    assert again.map_classes == ("background", "moth", "lamp")
    assert np.array_equal(again.label_map("JPEGImages/1.png"), FLAT)


@pytest.mark.parametrize("box", [[3.2, 4.1, 3.4, 9.0], [31.7, 23.6, 31.9, 23.7], [0, 0, 0.2, 0.2], [4, 4, 5, 5]])
def test_no_voc_box_has_a_length_of_0_for_any_reader(tmp_path: Path, box: list[float]) -> None:
    rows = "file,label,x1,y1,x2,y2\nimages/1.png,moth," + ",".join(map(str, box)) + "\n"
    found, _ = read(tmp_path / "set", {"labels.csv": rows})
    convert(found, tmp_path / "voc", "voc", accept_loss=("all",))
    x0, y0, x1, y1 = read_dataset(tmp_path / "voc").entries["JPEGImages/1.png"].objects.boxes[0].tolist()
    assert 0 <= x0 < x1 - 1 <= 31  # as written: x0 + 1 and x1
    assert 0 <= y0 < y1 - 1 <= 23


@pytest.mark.parametrize("categories", [{}, {"categories": []}])
def test_coco_without_categories_is_read(tmp_path: Path, categories: dict[str, Any]) -> None:
    image = {"id": 1, "file_name": "1.png", "width": 32, "height": 24}
    bare, _ = read(tmp_path / "bare", {"annotations/train.json": json.dumps({"images": [image], "annotations": [], **categories})})
    assert (len(bare.entries), bare.classes) == (1, ())
    boxes = [{"id": n, "image_id": 1, "category_id": n + 1, "bbox": [1, 1, 5, 5]} for n in (2, 9)]
    found, said = read(tmp_path / "set", {"annotations/train.json": json.dumps({"images": [image], "annotations": boxes, **categories})})
    assert found.classes == ("class 3", "class 10")
    assert "names no categories" in said["unnamed-class"]


def test_what_decoders_think_of_a_file_does_not_reach_the_terminal(tmp_path: Path) -> None:
    data = png(FLAT, "P", transparency=b"\x00\x80\xff")
    (tmp_path / "1.png").write_bytes(data)
    code = f"from varlen.datasets.image_files import decode; print(decode(open({str(tmp_path / '1.png')!r}, 'rb').read(), '1.png').shape)"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert (done.stdout.strip(), done.stderr) == ("(24, 32, 3)", "")


@pytest.mark.parametrize("kind", ["tif", "png"])
def test_pictures_of_too_many_pixels_are_read_as_windows(tmp_path: Path, kind: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(image_files, "MOST_PIXELS", 5000)
    large = np.random.default_rng(5).integers(0, 256, (90, 120, 3), dtype=np.uint8)
    data = png(large) if kind == "png" else tiff(large, tile=(32, 32), photometric="rgb", compression="zlib")
    folder = write(tmp_path / "set", {f"big.{kind}": data, "small.png": png(PHOTO)})
    with pytest.raises(DatasetError, match=rf"big\.{kind}: claims 120×90 px, more than 0 million pixels; read it as windows, with --tile"):
        read_dataset(folder)
    found = read_dataset(folder, options=ImportOptions(tile=(50, 40), overlap=10))
    windows = {key: found.pixels(key) for key in found.entries if key.startswith("big")}
    assert len(windows) == 9
    assert np.array_equal(windows["big_x70_y50.bmp"], large[50:90, 70:120])
    if kind == "png":
        monkeypatch.setattr(prepared_files, "most_in_memory", lambda: 6000)
        with pytest.raises(DatasetError, match="which is what this machine's memory allows"):
            read_dataset(folder, options=ImportOptions(tile=(50, 40), overlap=10)).pixels("big_x70_y50.bmp")
