"""The books balance: every file is a picture, labels, a side file or unexplained; what could hold labels and was not read stops."""

from __future__ import annotations

import json
import string
import tempfile
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from typer.testing import CliRunner
from varlen.cli.main import app
from varlen.datasets.account import COULD_HOLD, is_side
from varlen.datasets.formats import open_dataset, read_dataset
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.importer import preview_dataset
from varlen.errors import DatasetError, NeedsAnswer, ReadProblems

from tests.core.datasets.trees import write_tree

run = CliRunner()
YOLO: dict[str, Any] = {"images/train/a.png": (40, 30), "labels/train/a.txt": "0 0.5 0.5 0.2 0.2\n", "data.yaml": "names: [moth]\n"}
BOX = ("<annotation><size><width>40</width><height>30</height></size><object><name>moth</name>"
       "<bndbox><xmin>3</xmin><ymin>3</ymin><xmax>9</xmax><ymax>9</ymax></bndbox></object></annotation>")  # fmt: skip
COCO = json.dumps({"images": [{"id": 1, "file_name": "a.png", "width": 40, "height": 30}], "categories": [{"id": 1, "name": "moth"}],
                   "annotations": [{"id": 1, "image_id": 1, "category_id": 1, "bbox": [3, 3, 6, 6], "area": 36, "iscrowd": 0}]})  # fmt: skip
TREES: dict[str, dict[str, Any]] = {
    "yolo": YOLO,
    "coco": {"images/a.png": (40, 30), "annotations/train.json": COCO},
    "voc": {"JPEGImages/a.png": (40, 30), "Annotations/a.xml": BOX, "ImageSets/Main/train.txt": "a\n"},
    "table": {"pictures/a.png": (40, 30), "labels.csv": "file,label\na.png,moth\n"},
    "picture-json": {"a.png": (40, 30), "a.json": json.dumps({"shapes": [{"label": "moth", "points": [[1, 1], [9, 1], [9, 9]]}]})},
    "class-folders": {"moth/a.png": (40, 30), "lamp/b.png": (40, 30)},
    "pictures": {"a.png": (40, 30)},
}
SIDE = {"README.md": "moths", "LICENSE": "free", ".DS_Store": "x", "__MACOSX/a": "x", "preview.html": "<p>", "labels/train.cache": "x"}


@pytest.mark.parametrize("form", TREES)
def test_a_set_and_its_side_files_are_explained(tmp_path: Path, form: str) -> None:
    found = open_dataset(write_tree(tmp_path / "set", {**TREES[form], **SIDE}))
    assert found.form == form
    assert (found.account.unexplained, found.account.side) == ([], len(SIDE))
    assert found.account.pictures + found.account.labels == len(TREES[form])


@pytest.mark.parametrize("form", [form for form in TREES if form != "pictures"])
@pytest.mark.parametrize("stray", ["boxes.txt", "deep/in/tracks.csv", "gt.mat", "labels_old.json", "calib/a.yaml"])
def test_a_file_that_could_hold_labels_stops_until_it_is_answered(tmp_path: Path, form: str, stray: str) -> None:
    folder = write_tree(tmp_path / "set", {**TREES[form], stray: "a.png moth 3 4 9 9\n"})
    with pytest.raises(NeedsAnswer, match=f"1 file that could hold labels was not read: {stray}.*--ignore") as question:
        read_dataset(folder)
    assert question.value.option == "ignore"
    if not stray.endswith(".mat"):
        assert "begins 'a.png moth 3 4 9 9'" in str(question.value)
    plain = read_dataset(write_tree(tmp_path / "plain" / "set", TREES[form]))
    for pattern in (stray, "*" + Path(stray).suffix if Path(stray).suffix in (".mat",) else stray.rsplit("/", 1)[-1]):
        assert read_dataset(folder, options=ImportOptions(ignore=(pattern,))).digest() == plain.digest()
    assert preview_dataset(folder)["asks"] == ["ignore"]
    assert preview_dataset(folder)["files"]["unexplained_files"] == [stray]
    assert preview_dataset(folder, ignore=[stray])["asks"] == []


def test_in_a_terminal(tmp_path: Path) -> None:
    folder = write_tree(tmp_path / "set", {**YOLO, "forgotten.txt": "a 1 2\n"})
    inspected = run.invoke(app, ["inspect", str(folder)])
    assert "pictures 1 · labels 2 · side files 0 · unexplained 1" in inspected.output
    assert "question: " in inspected.output
    (tmp_path / "none.varlen.json").write_text('{"varlen_pipeline": 1, "name": "none", "steps": []}')
    order = ["export", str(folder), str(tmp_path / "none.varlen.json"), "-o", str(tmp_path / "out")]
    stopped = run.invoke(app, order)
    assert isinstance(stopped.exception, DatasetError)
    assert not (tmp_path / "out").exists()
    assert run.invoke(app, [*order, "--ignore", "forgotten.txt"]).exit_code == 0
    assert json.loads((tmp_path / "out" / "edition.json").read_text())["read_as"] == {"ignore": ["forgotten.txt"]}
    assert run.invoke(app, ["verify", "--deep", str(tmp_path / "out")]).exit_code == 0


@pytest.mark.parametrize(
    ("paths", "said"),
    [
        (["night/a.png", "night/b.png"], "every picture would be of one class, 'night'"),
        (["train/night/a.png", "val/night/b.png"], "every picture would be of one class"),
        (["train/a.png", "val/b.png", "moth/c.png"], "a class would be called 'train', as a split is"),
        (["cam0/a.png", "cam1/b.png"], "'cam0', 'cam1', as cameras or folders of pictures are"),
        (["camera_front/a.png", "images/b.png"], "as cameras or folders of pictures are"),
    ],
)
def test_folders_that_may_be_no_classes_are_asked_about(tmp_path: Path, paths: list[str], said: str) -> None:
    folder = write_tree(tmp_path / "set", dict.fromkeys(paths, (8, 8)))
    with pytest.raises(NeedsAnswer, match=f"{said}.*--from class-folders if they are classes, --from pictures if") as question:
        read_dataset(folder)
    assert question.value.option == "form"
    assert preview_dataset(folder)["asks"] == ["form"]
    assert preview_dataset(folder, "class-folders")["asks"] == []
    assert read_dataset(folder, form="class-folders").classes
    assert read_dataset(folder, form="pictures").classes == ()
    inspected = run.invoke(app, ["inspect", str(folder)])
    assert inspected.exit_code == 0
    assert "question: " in inspected.output


@pytest.mark.parametrize("paths", [["train/a.png", "plane/b.png", "tram/c.png"], ["train/train/a.png", "train/val/b.png", "train/car/c.png"],
                                   ["left/a.png", "right/b.png"], ["train/moth/a.png", "val/lamp/b.png"]])  # fmt: skip
def test_folders_that_are_classes_are_read(tmp_path: Path, paths: list[str]) -> None:
    assert len(read_dataset(write_tree(tmp_path / "set", dict.fromkeys(paths, (8, 8)))).classes) >= 2


NAMES = st.text(string.ascii_lowercase[:3], min_size=1, max_size=2)
PATHS = st.tuples(st.lists(st.sampled_from(("images", "labels", "train", "val", "x")), max_size=2).map(tuple), NAMES,
                  st.sampled_from((".png", ".txt", ".json", ".xml", ".csv", ".yaml", ".md", ".bin", "")))  # fmt: skip
CONTENTS = st.sampled_from(("", "0 0.5 0.5 0.2 0.2\n", "{}", "[]", COCO, BOX, "file,label\na.png,moth\n", "names: [a, b]\n", "a.png 3 4\n"))


@settings(max_examples=120, deadline=None)
@given(st.sampled_from(list(TREES)), st.dictionaries(PATHS, CONTENTS, max_size=5))
def test_no_file_of_any_tree_is_silently_unexplained(form: str, more: dict[Any, str]) -> None:
    """Each is counted once; one that could hold labels is read, or asked about, or the set is refused."""
    files: dict[str, Any] = dict(TREES[form])
    for (folders, name, suffix), content in more.items():
        files.setdefault("/".join([*folders, name + suffix]), (8, 8) if suffix == ".png" else content)
    with tempfile.TemporaryDirectory() as place:
        folder = write_tree(Path(place) / "set", files)
        try:
            found = open_dataset(folder, problems=ReadProblems(strict=False), ask=False)
        except DatasetError:
            return
        account = found.account
        assert account.pictures + account.labels + account.side + len(account.unexplained) == len(files)
        for path in account.unexplained:
            assert not is_side(path)
            if path.endswith(COULD_HOLD):
                assert path in account.asked
                assert account.question
