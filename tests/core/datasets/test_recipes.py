"""Reading recipes: every one that ships reads a tree of its layout, as recognised and by name; what they refuse; what an edition keeps."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import varlen as v
from numpy.testing import assert_allclose
from typer.testing import CliRunner
from varlen.cli.main import app
from varlen.datasets.convert import LossRefused
from varlen.datasets.formats import open_dataset, read_dataset
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.recipes import SUFFIX, Recipe, pattern, shipped
from varlen.errors import DatasetError

from tests.core.datasets.recipe_trees import BOX, PIC, TREES
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


def test_every_recipe_that_ships_has_a_tree_and_a_line_in_the_docs() -> None:
    assert set(TREES) == set(shipped())
    docs = (Path(__file__).parents[3] / "docs" / "recipes.md").read_text()
    listed = [line.split("`")[1] for line in docs.partition("## Recipes that ship")[2].splitlines() if line.startswith("| `")]
    assert sorted(listed) == sorted(shipped())


def test_painted_objects(tmp_path: Path) -> None:
    dataset = read_dataset(written(tmp_path / "panoptic", TREES["panoptic"].files))
    found = next(iter(dataset.entries.values())).objects
    assert {dataset.classes[n]: box for n, box in zip(found.classes.tolist(), found.boxes.tolist(), strict=True)} == {
        "moth": BOX,
        "sky": [50, 50, 60, 60],
    }
    assert sorted(each["area"] for each in found.attributes) == [100, 1200]
    assert len(next(iter(read_dataset(written(tmp_path / "masks", TREES["object-masks"].files)).entries.values())).objects) == 2


#: Texts of a layout nobody published: columns in an order of their own, and what a draft must find in them.
UNHEARD = "# lamp 4\nmoth|a.png|0.9|11|12|31|40\nlamp|a.png|0.5|1|2|9|9\nmoth|b.png|0.7|5|5|25|30\n"


def test_an_unheard_of_text_is_drafted_exported_and_read_again_elsewhere(tmp_path: Path) -> None:
    folder = written(tmp_path / "set", {"pictures/a.png": PIC, "pictures/b.png": PIC, "notes/lamp.txt": UNHEARD})
    with pytest.raises(DatasetError, match=r"lamp.txt begins '# lamp 4 ⏎ moth.*--reading FILE"):
        read_dataset(folder)
    drafted = run.invoke(app, ["inspect", str(folder), "--draft-reading"])
    assert drafted.exit_code == 0
    recipe = json.loads(drafted.stdout)
    assert recipe["labels"]["columns"] == "class picture column_3 x_min y_min x_max y_max"
    recipe["labels"]["columns"] = recipe["labels"]["columns"].replace("column_3", "score")
    kept = tmp_path / ("lamp" + SUFFIX)
    kept.write_text(json.dumps(recipe))
    dataset = v.read_dataset(folder, reading=kept)
    assert dataset.classes == ("lamp", "moth")
    a = dataset.entries["pictures/a.png"].objects
    assert a.boxes.tolist() == [[11, 12, 31, 40], [1, 2, 9, 9]]
    assert [each["score"] for each in a.attributes] == [0.9, 0.5]

    (tmp_path / "none.varlen.json").write_text('{"varlen_pipeline": 1, "name": "none", "steps": []}')
    order = ["export", str(folder), str(tmp_path / "none.varlen.json"), "-o", str(tmp_path / "out"), "--reading", str(kept), "--format", "coco"]
    assert run.invoke(app, order).exit_code == 0
    record = json.loads((tmp_path / "out" / "edition.json").read_text())
    assert record["read_as"]["reading"] == {"recipe": Recipe.parse(recipe).to_json(), "sha256": Recipe.parse(recipe).digest()}
    # The edition's record alone is enough to read the labels again: the recipe's own file may be gone.
    kept.unlink()
    assert run.invoke(app, ["verify", "--deep", str(tmp_path / "out")]).exit_code == 0
    elsewhere = written(tmp_path / "copy", {"pictures/a.png": PIC, "pictures/b.png": PIC, "notes/lamp.txt": UNHEARD})
    assert v.read_dataset(elsewhere, reading=record["read_as"]["reading"]["recipe"]).digest() == dataset.digest()
    record["read_as"]["reading"]["recipe"]["box_form"] = "corner-size"
    with pytest.raises(DatasetError, match="digest is not the one"):
        ImportOptions.from_json(record["read_as"])


DRAFTS: dict[str, tuple[dict[str, Any], dict[str, Any]]] = {
    "a table with a head": (
        {
            "p/a.png": PIC,
            "p/b.png": PIC,
            "p/c.png": PIC,
            "gt.dat.txt": "species;pic;left;top;right;bottom\nmoth;a.png;1;2;9;9\nlamp;b.png;3;3;8;20\nmoth;c.png;4;5;6;7\n",
        },
        {"picture": "picture", "class": "class", "box": ["x_min", "y_min", "x_max", "y_max"]},
    ),
    "a text for each picture, centres as shares": (
        {f"train/{n}.png": PIC for n in "abc"}
        | {f"boxes/train/{n}.lst": f"moth 0.5 0.5 0.2 0.{n + 1}\nlamp 0.3 0.4 0.1 0.1\n" for n in range(3)}
        | {f"train/{n}.png": PIC for n in range(3)},
        {"class": "class", "box_form": "centre-size", "unit": "shares"},
    ),
    "a JSON of frames": (
        {
            "p/a.png": PIC,
            "all.json": {"frames": [{"picture": "a.png", "marks": [{"kind": {"species": "moth"}, "area": {"x1": 1, "y1": 2, "x2": 9, "y2": 9}}]}]},
        },
        {
            "each": "frames[]",
            "picture": "picture",
            "objects": "marks[]",
            "class": "kind.species",
            "box": ["area.x1", "area.y1", "area.x2", "area.y2"],
        },
    ),
    "an XML of another kind": (
        {
            "p/a.png": PIC,
            "p/b.png": PIC,
            "all.xml": "<night><frame><file>a.png</file><mark><name>moth</name><xmin>1</xmin><ymin>2</ymin><xmax>9</xmax><ymax>9</ymax></mark>"
            "<mark><name>lamp</name><xmin>1</xmin><ymin>2</ymin><xmax>5</xmax><ymax>9</ymax></mark></frame><frame><file>b.png</file></frame></night>",
        },
        {"each": "night.frame[]", "picture": "file", "objects": "mark[]", "class": "name", "box": ["xmin", "ymin", "xmax", "ymax"]},
    ),
}


@pytest.mark.parametrize("name", DRAFTS)
def test_a_draft_says_where_things_stand(tmp_path: Path, name: str) -> None:
    files, wanted = DRAFTS[name]
    folder = written(tmp_path / "set", files)
    drafted = run.invoke(app, ["inspect", str(folder), "--draft-reading"])
    recipe = json.loads(drafted.stdout)
    assert {key: recipe.get(key) for key in wanted} == wanted
    assert sum(len(entry.objects) for entry in v.read_dataset(folder, reading=recipe).entries.values()) >= 1


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"varlen_reading": 2}, "varlen_reading"),
        ({"boxes": ["a"]}, "boxes: Extra inputs"),
        ({"box": ["a", "b", "c"]}, "box"),
        ({"class": None}, "`class` is needed"),
        ({"labels": []}, "`labels` or `pixels`"),
        ({"box": None}, "reads no labels"),
        ({"objects": "a[?"}, "no JMESPath expression"),
        ({"pictures": "{a}{b}{c}/{d}"}, "without anything between"),
        ({"pictures": "{Big}/x"}, "small letters"),
        ({"pictures": "{any}{any}/{any}"}, "names"),
    ],
)
def test_a_recipe_that_says_nothing_sensible_is_refused_by_its_field(tmp_path: Path, change: dict[str, Any], said: str) -> None:
    good = {
        "varlen_reading": 1,
        "name": "n",
        "labels": {"files": "a.txt", "columns": "picture class a b c d"},
        "picture": "picture",
        "class": "class",
    }
    good["box"] = ["a", "b", "c", "d"]
    Recipe.parse(good)
    place = tmp_path / "x.reading.json"
    place.write_text(json.dumps({**good, **change}))
    folder = written(tmp_path / "set", {"a.png": PIC, "a.txt": "a.png moth 1 2 3 4\n"})
    with pytest.raises(DatasetError, match=rf"x\.reading\.json: .*{said}"):
        v.read_dataset(folder, reading=place)
    assert run.invoke(app, ["inspect", str(folder), "--reading", str(place)]).exit_code != 0


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("a.png moth 1 2 3\n", "a.txt, line 1: 6 columns are expected, and there are 5"),
        ("a.png moth 1 2 3 x\n", "a.txt, line 1: expected a number, not 'x'"),
        ("b.png moth 1 2 3 4\n", "a.txt, line 1: there is no picture for it .'b.png'"),
        ("a.png moth 5 2 3 4\n", "a.txt, line 1: the box 5 2 3 4 is not from low to high"),
        ("a.png moth 1 2 3 1e300\n", "line 1: 1e300 is no coordinate"),
    ],
)
def test_a_row_that_does_not_fit_is_named(tmp_path: Path, text: str, said: str) -> None:
    recipe = {
        "varlen_reading": 1,
        "name": "n",
        "labels": {"files": "a.txt", "columns": "picture class a b c d"},
        "picture": "picture",
        "class": "class",
    }
    folder = written(tmp_path / "set", {"a.png": PIC, "a.txt": text})
    with pytest.raises(DatasetError, match=said):
        v.read_dataset(folder, reading={**recipe, "box": ["a", "b", "c", "d"]})


def test_turned_boxes_and_outlines_of_a_recipe(tmp_path: Path) -> None:
    """A box turned by a quarter is the same rectangle on its side; corners and outlines stand where they are written."""
    base = {"varlen_reading": 1, "name": "n", "labels": {"files": "a.json", "each": "[]"}, "picture": "p", "class": "'moth'"}
    row = {
        "p": "a.png",
        "t": [50, 40, 20, 10, 90],
        "c": [10, 20, 40, 20, 40, 60, 10, 60],
        "o": [[[1, 1], [9, 1], [9, 9]], [[20, 20], [30, 20], [30, 30]]],
    }
    folder = written(tmp_path / "set", {"a.png": PIC, "a.json": [row]})
    turned = v.read_dataset(folder, reading={**base, "turned": ["t[0]", "t[1]", "t[2]", "t[3]", "t[4]"]}).entries["a.png"].objects
    assert_allclose(turned.boxes[0], [45, 30, 55, 50], atol=1e-9)
    corners = v.read_dataset(folder, reading={**base, "corners": "c"}).entries["a.png"].objects
    assert_allclose(corners.oriented.of_object(0), np.array(row["c"]).reshape(4, 2))
    parts = v.read_dataset(folder, reading={**base, "outline": "o"}).entries["a.png"].objects.polygons[0]
    assert parts is not None
    assert [part.outline.tolist() for part in parts] == row["o"]


def test_patterns_match_in_time() -> None:
    """The widest pattern that is taken, against a path made to be nearly matched: no more than a moment."""
    wide = pattern("{any}/{a}_{b}-{c}/{any}/{d}_{e}.{f}")
    assert wide.fullmatch("_-/" * 60 + "x" * 200) is None


def test_attributes_go_with_their_objects_to_where_a_format_has_a_place_for_them(tmp_path: Path) -> None:
    """Track ids, scores and "occluded" of one JSON for each split, through a rotation and a crop: COCO keeps all, VOC what is plain, YOLO none."""
    marks = [{"category": "moth", "id": 7, "track_id": 41, "score": 0.5, "attributes": {"occluded": True, "seen by": ["ann"]},
              "box2d": {"x1": 30, "y1": 20, "x2": 70, "y2": 60}}]  # fmt: skip
    record = {"name": "a.jpg", "weather": "rain", "width": 9, "labels": marks}
    dataset = v.read_dataset(written(tmp_path / "set", {"images/train/a.jpg": PIC, "labels/train.json": [record]}))
    kept = {"id": 7, "track_id": 41, "score": 0.5, "occluded": True, "seen by": ["ann"]}
    assert dataset.entries["images/train/a.jpg"].objects.attributes == (kept,)
    steps = v.Pipeline([v.Rotate(degrees=(5, 5)), v.Crop(mode="window", left_px=5, top_px=5, width_px=90, height_px=70)], seed=3)
    v.export(dataset, steps, tmp_path / "coco", variants=1, format="coco")
    said = json.loads((tmp_path / "coco" / "annotations" / "train.json").read_text())
    for annotation in said["annotations"]:
        assert annotation.items() >= {"source_id": 7, "track_id": 41, "score": 0.5, "occluded": True, "seen by": ["ann"]}.items()
    assert [each["id"] for each in said["annotations"]] == list(range(1, len(said["annotations"]) + 1))
    assert len(said["annotations"]) == 2
    assert {each["width"] for each in said["images"]} == {90}
    assert all(each["weather"] == "rain" and each["source_width"] == 9 for each in said["images"])
    edition = v.export(dataset, steps, tmp_path / "voc", variants=1, format="voc")
    xml = next((tmp_path / "voc" / "Annotations").glob("*.xml")).read_text()
    for element in ("<track_id>41</track_id>", "<score>0.5</score>", "<occluded>1</occluded>", "<id>7</id>"):
        assert element in xml
    assert "1 objects have 'seen by', which is no plain number or text" in json.dumps(json.loads((tmp_path / "voc" / "edition.json").read_text()))
    assert edition.path == tmp_path / "voc"
    with pytest.raises(LossRefused, match="attributes"):
        v.export(dataset, steps, tmp_path / "yolo", variants=1, format="yolo")
