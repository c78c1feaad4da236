"""Layouts as people have them, each as a small tree: what it is recognised as, and how many images, objects, classes and splits come of it."""

from __future__ import annotations

import zipfile
from collections import Counter
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import pytest
from varlen.datasets.formats import read_dataset
from varlen.datasets.import_options import ImportOptions
from varlen.errors import DatasetError, NeedsAnswer, ReadProblems

from tests.core.datasets.trees import Content, box, coco, image, levels, write_tree, xml

SIZE = (40, 30)


class Layout(NamedTuple):
    """form: what it is read as; classes: of objects and images, and of label maps; splits: images of each."""

    files: dict[str, Content]
    form: str
    images: int
    objects: int
    classes: tuple[str, ...]
    splits: dict[str, int]
    why: str = ""
    options: dict[str, Any] = {}  # noqa: RUF012
    drawn: bool = False
    image_classes: int = 0
    oriented: int = 0


def pictures(*names: str) -> dict[str, Content]:
    return dict.fromkeys(names, SIZE)


PERSONS = {
    "images": [image(1, "a.jpg")],
    "categories": [{"id": 1, "name": "moth", "keypoints": ["left tip", "right tip"], "skeleton": [[1, 2]]}],
    "annotations": [box(7, 1, keypoints=[5, 6, 2, 9, 6, 2], num_keypoints=2)],
}
TURNED = "4 10 14 5 18 13 8 18"

LAYOUTS: dict[str, Layout] = {
    "coco as it is published": Layout(
        {
            **pictures("train2017/a.jpg", "train2017/b.jpg", "val2017/c.jpg"),
            "annotations/instances_train2017.json": coco([image(1, "a.jpg"), image(2, "b.jpg")], [box(1, 1), box(2, 2, 2)]),
            "annotations/instances_val2017.json": coco([image(1, "c.jpg")], [box(1, 1)]),
            "annotations/captions_val2017.json": {"images": [image(1, "c.jpg")], "annotations": [{"image_id": 1, "id": 4, "caption": "a moth"}]},
        },
        "coco", 3, 3, ("moth", "lamp"), {"train": 2, "validation": 1}, "annotations/instances_train2017.json",
    ),
    "coco, two files over one picture": Layout(
        {
            **pictures("train/a.jpg"),
            "annotations/instances_train.json": coco([image(1, "a.jpg")], [box(7, 1, segmentation=[[4, 5, 14, 5, 14, 13]]), box(8, 1, 2)]),
            "annotations/person_keypoints_train.json": PERSONS,
        },
        "coco", 1, 2, ("moth", "lamp"), {"train": 1},
    ),
    "coco, a file in each split's folder": Layout(
        {
            **pictures("train/a.jpg", "valid/b.jpg"),
            "train/labels.json": coco([image(0, "a.jpg")], [box(0, 0)]),
            "valid/labels.json": coco([image(0, "b.jpg")], [box(0, 0), box(1, 0)]),
        },
        "coco", 2, 3, ("moth", "lamp"), {"train": 1, "validation": 1},
    ),
    "coco, paths of another machine": Layout(
        {
            **pictures("photos/night/a.jpg", "photos/day/a.jpg", "photos/b.jpg"),
            "labels.json": coco(
                [image("x", "C:\\work\\photos\\night\\a.jpg"), image("y", "/home/me/photos/day/a.jpg"), image("z", "../photos/b.jpg")],
                [box("p", "x"), box("q", "y"), box("r", "z")],
            ),
        },
        "coco", 3, 3, ("moth", "lamp"), {"train": 3},
    ),
    "coco, with little in it": Layout(
        {
            **pictures("images/a.jpg"),
            "annotations/all.json": '{"images": [{"id": "a", "file_name": "a.jpg", "quality": NaN}], "categories": [{"id": "m", "name": "moth"}],'
            '"annotations": [{"id": 1, "image_id": "a", "category_id": "m", "bbox": [1.5, 2, 3, 4], "segmentation": []},'
            ' {"id": 2, "image_id": "a", "category_id": "m", "bbox": [], "segmentation": [[1, 1, 9, 1, 9, 9]]},'
            ' {"id": 3, "image_id": "a", "category_id": "m", "bbox": [1, 2, 3, 4], "segmentation": [[]]}]}',
        },
        "coco", 1, 3, ("moth",), {"train": 1},
    ),
    "coco, float sizes and numbers from 0": Layout(
        {**pictures("images/a.jpg"), "a.json": coco([{**image(0, "images/a.jpg"), "width": 40.0, "height": 30.0}], [box(0, 0)])},
        "coco", 1, 1, ("moth", "lamp"), {"train": 1},
    ),
    "coco, turned boxes as outlines": Layout(
        {**pictures("images/a.jpg"), "a.json": coco([image(1, "a.jpg")], [box(1, 1, segmentation=[[10, 4, 18, 10, 15, 14, 7, 8]])])},
        "coco", 1, 1, ("moth", "lamp"), {"train": 1}, oriented=1,
    ),
    "voc": Layout(
        {
            **pictures("JPEGImages/a.jpg", "JPEGImages/b.jpg", "JPEGImages/c.jpg"),
            "Annotations/a.xml": xml("a.jpg"), "Annotations/b.xml": xml("b.jpg", ("moth", "lamp")), "Annotations/c.xml": xml("c.jpg", ()),
            "ImageSets/Main/train.txt": "a\nb\n", "ImageSets/Main/val.txt": "c\n",
        },
        "voc", 3, 3, ("lamp", "moth"), {"train": 2, "validation": 1}, "Annotations/a.xml",
    ),
    "voc without sizes, split for segmentation, one picture without labels": Layout(
        {
            **pictures("JPEGImages/a.jpg", "JPEGImages/b.jpg"), "Annotations/a.xml": xml("a.jpg", size=False),
            "ImageSets/Segmentation/train.txt": "a\n", "ImageSets/Segmentation/val.txt": "b\n",
        },
        "voc", 2, 1, ("moth",), {"train": 1, "validation": 1},
    ),
    "xml beside the pictures": Layout(
        {**pictures("train/a.jpg", "val/b.jpg"), "train/a.xml": xml("a.jpg"), "val/b.xml": xml("b.jpg")},
        "voc", 2, 2, ("moth",), {"train": 1, "validation": 1},
    ),
    "yolo": Layout(
        {
            **pictures("images/train/a.jpg", "images/val/b.jpg"), "labels/train/a.txt": "0 0.5 0.5 0.2 0.2\n1 0.2 0.2 0.1 0.1\n",
            "labels/val/b.txt": "", "data.yaml": "names: [moth, lamp]\ntrain: images/train\nval: images/val\n",
        },
        "yolo", 2, 2, ("moth", "lamp"), {"train": 1, "validation": 1}, "data.yaml",
    ),
    "yolo, lists of absolute paths": Layout(
        {
            **pictures("images/a.jpg", "images/b.jpg", "images/c.jpg"),
            "labels/a.txt": "0 0.5 0.5 0.2 0.2\n", "labels/b.txt": "0 0.5 0.5 0.2 0.2\n", "labels/c.txt": "0 0.5 0.5 0.2 0.2\n",
            "train.txt": "/data/moths/images/a.jpg\n/data/moths/images/b.jpg\n", "val.txt": "D:\\moths\\images\\c.jpg\n",
            "data.yaml": "\ufeff'names': {'0': moth}\ntrain: train.txt\nval: ./val.txt\npath: /data/moths\n",
        },
        "yolo", 3, 3, ("moth",), {"train": 2, "validation": 1},
    ),
    "yolo, capital letters": Layout(
        {**pictures("Images/Train/a.JPG", "Images/Val/b.JPG"), "Labels/Train/a.txt": "0 0.5 0.5 0.2 0.2\n", "Labels/Val/b.txt": "0 .5 .5 .2 .2\n"},
        "yolo", 2, 2, ("class 0",), {"train": 1, "validation": 1},
    ),
    "yolo, beside the pictures": Layout(
        {
            **pictures("set/a.jpg", "set/b.jpg"), "set/a.txt": "0 0.5 0.5 0.2 0.2 0.93\n", "set/b.txt": "1 0.5 0.5 0.2 0.2\n",
            "obj.names": "moth\nlamp\n",
        },
        "yolo", 2, 2, ("moth", "lamp"), {"train": 2},
    ),
    "yolo in a wrapper": Layout(
        {
            **pictures("moths/train/images/a.jpg", "moths/valid/images/b.jpg"), "moths/train/labels/a.txt": "0 0.5 0.5 0.2 0.2\n",
            "moths/valid/labels/b.txt": "0 0.5 0.5 0.2 0.2\n", "moths/classes.txt": "moth\n",
        },
        "yolo", 2, 2, ("moth",), {"train": 1, "validation": 1},
    ),
    "yolo, outlines": Layout(
        {**pictures("images/a.jpg"), "labels/a.txt": "0 .1 .1 .5 .1 .5 .5\n0 .1 .1 .5 .1 .5 .5 .1 .5\n"}, "yolo", 1, 2, ("class 0",), {"train": 1},
    ),
    "yolo, oriented boxes": Layout(
        {**pictures("images/a.jpg"), "labels/a.txt": "0 .25 .1 .45 .3 .38 .45 .18 .25\n", "data.yaml": "names: [moth]"},
        "yolo", 1, 1, ("moth",), {"train": 1}, oriented=1,
    ),
    "oriented text": Layout(
        {
            **pictures("train/images/a.png", "val/images/b.png"),
            "train/labelTxt/a.txt": f"imagesource:camera\ngsd:0.15\n{TURNED} moth 0\n{TURNED} lamp 1\n",
            "val/labelTxt/b.txt": f"{TURNED.replace(' ', ',')},moth\n",
        },
        "oriented-text", 2, 3, ("lamp", "moth"), {"train": 1, "validation": 1}, "train/labelTxt/a.txt", oriented=3,
    ),
    "mask pairs": Layout(
        {
            **pictures("images/train/a.jpg", "images/val/b.jpg"), "masks/train/a.png": levels(0, 1, 2), "masks/val/b.png": levels(0, 2),
            "classes.json": {"0": {"name": "background"}, "1": {"name": "moth"}, "2": {"name": "lamp"}},
        },
        "mask-pairs", 2, 0, ("background", "moth", "lamp"), {"train": 1, "validation": 1},
    ),
    "binary masks": Layout(
        {**pictures("train/img/a.jpg", "test/img/b.jpg"), "train/mask/a.png": levels(0, 255), "test/mask/b.png": levels(255, 0)},
        "mask-pairs", 2, 0, ("background", "moth"), {"train": 1, "test": 1}, options={"mask_class": "moth"},
    ),
    "masks of one bit, with an ending": Layout(
        {**pictures("a.jpg", "b.jpg"), "a_mask.png": levels(0, 1).astype(bool), "b_mask.png": levels(1, 0).astype(bool)},
        "mask-pairs", 2, 0, ("background", "moth"), {"train": 2}, options={"mask_class": "moth"}, drawn=True,
    ),
    "colored masks and their table": Layout(
        {
            **pictures("Image/a.jpg"), "Label/a.bmp": np.stack([levels(0, 128), levels(0, 64), levels(0, 32)], axis=2),
            "colors.csv": "name,r,g,b\nground,0,0,0\nmoth,128,64,32\n",
        },
        "mask-pairs", 1, 0, ("ground", "moth"), {"train": 1}, drawn=True,
    ),
    "colored masks without a table": Layout(
        {**pictures("image/a.jpg"), "label/a.png": np.stack([levels(0, 128), levels(0, 64), levels(0, 32)], axis=2)},
        "mask-pairs", 1, 0, ("#000000", "#804020"), {"train": 1}, drawn=True,
    ),
    "class folders": Layout(
        {**pictures("train/moth/a.jpg", "train/lamp/b.jpg", "val/moth/c.jpg")},
        "class-folders", 3, 0, ("lamp", "moth"), {"train": 2, "validation": 1}, "moth/", image_classes=3,
    ),
    "class folders without splits": Layout(
        pictures(*(f"{name}/{n:02d}.jpg" for name in ("moth", "lamp") for n in range(10))),
        "class-folders", 20, 0, ("lamp", "moth"), {"train": 16, "validation": 2, "test": 2}, drawn=True, image_classes=20,
    ),
    "folders within folders": Layout(
        pictures("train/moth/ash veil/a.jpg", "train/moth/copper hook/b.jpg", "train/lamp/c.jpg"),
        "class-folders", 3, 0, ("lamp", "moth/ash veil", "moth/copper hook"), {"train": 3}, image_classes=3,
    ),
    "a class called train": Layout(
        pictures("train/a.jpg", "plane/b.jpg", "tram/c.jpg"),
        "class-folders", 3, 0, ("plane", "train", "tram"), {"train": 3}, drawn=True, image_classes=3,
    ),
    "a table of boxes": Layout(
        {
            **pictures("photos/a.jpg", "photos/b.jpg"),
            "labels.csv": "filename,width,height,class,xmin,ymin,xmax,ymax\n"
            "a.jpg,40,30,moth,1,2,11,12\na.jpg,40,30,lamp,1,2,5,6\nb.jpg,40,30,moth,1,2,11,12\n",
        },
        "table", 2, 3, ("lamp", "moth"), {"train": 2}, "labels.csv", drawn=True,
    ),
    "a table of shares": Layout(
        {**pictures("a.jpg"), "boxes.csv": "image;label;x;y;w;h;split\na.jpg;moth;0.1;0.1;0.5;0.5;val\n"},
        "table", 1, 1, ("moth",), {"validation": 1},
    ),
    "a table of files and labels": Layout(
        {**pictures("img/a.jpg", "img/b.jpg"), "labels.csv": "file_name,label\nimg/a.jpg,moth\nimg/b.jpg,lamp\n"},
        "table", 2, 0, ("lamp", "moth"), {"train": 2}, drawn=True, image_classes=2,
    ),
    "json lines": Layout(
        {
            **pictures("a.jpg", "b.jpg"),
            "labels.jsonl": '{"path": "a.jpg", "category": "moth", "bbox": [1, 2, 3, 4]}\n{"path": "b.jpg", "category": "lamp"}\n',
        },
        "table", 2, 1, ("lamp", "moth"), {"train": 2}, drawn=True, image_classes=1,
    ),
    "a json file beside each picture": Layout(
        {
            **pictures("a.jpg", "b.jpg"),
            "a.json": {
                "version": 1,
                "shapes": [{"label": "moth", "points": [[1, 1], [20, 1], [20, 9]]}, {"label": "lamp", "points": [[1, 1], [9, 9]]}],
            },
            "b.json": {"objects": [{"class": "moth", "bbox": {"left": 1, "top": 2, "width": 9, "height": 8}}]},
        },
        "picture-json", 2, 3, ("lamp", "moth"), {"train": 2}, "a.json", drawn=True,
    ),
    "a json file for each picture in another folder": Layout(
        {**pictures("img/a.jpg"), "ann/a.jpg.json": {"objects": [{"title": "moth", "points": {"exterior": [[1, 1], [20, 1], [20, 9], [1, 9]]}}]}},
        "picture-json", 1, 1, ("moth",), {"train": 1}, drawn=True,
    ),
    "a flat folder of pictures": Layout(pictures("a.jpg", "b.png", "c.webp"), "pictures", 3, 0, (), {"train": 3}),
    "pictures in folders of splits": Layout(pictures("images/train/a.jpg", "images/val/b.jpg"), "pictures", 2, 0, (), {"train": 1, "validation": 1}),
}  # fmt: skip


@pytest.mark.parametrize("name", LAYOUTS)
@pytest.mark.parametrize("zipped", [False, True], ids=["folder", "zip"])
def test_what_people_have(name: str, zipped: bool, tmp_path: Path) -> None:
    layout = LAYOUTS[name]
    folder = write_tree(tmp_path / "set", layout.files)
    source = zip_of(folder, tmp_path / "set.zip") if zipped else folder
    found = read_dataset(source, options=ImportOptions(**layout.options))
    entries = list(found.entries.values())
    assert (found.format, len(entries), sum(len(entry.objects) for entry in entries)) == (layout.form, layout.images, layout.objects)
    assert (found.classes or found.map_classes) == layout.classes
    assert found.images_by_split() == layout.splits
    assert found.splits_drawn is layout.drawn
    assert sum(bool(entry.classes) for entry in entries) == layout.image_classes
    assert sum(len(entry.objects.oriented.owners) for entry in entries) == layout.oriented
    assert found.why
    assert layout.why in found.why[:5] or not layout.why or zipped
    for key in found.entries:
        assert found.pixels(key).shape == (30, 40, 3)
        found.label_map(key)
    assert read_dataset(source, options=ImportOptions(**layout.options)).digest() == found.digest()


def zip_of(folder: Path, path: Path) -> Path:
    with zipfile.ZipFile(path, "w") as archive:
        for file in sorted(folder.rglob("*")):
            if file.is_file():
                archive.write(file, f"wrapped/{file.relative_to(folder).as_posix()}")
    return path


def test_one_picture(tmp_path: Path) -> None:
    write_tree(tmp_path, pictures("a.png", "b.png"))
    found = read_dataset(tmp_path / "a.png")
    assert (list(found.entries), found.format, found.images_by_split()) == (["a.png"], "pictures", {"train": 1})


def test_files_that_say_the_same_thing_of_one_picture_are_put_together(tmp_path: Path) -> None:
    layout = LAYOUTS["coco, two files over one picture"]
    entry = next(iter(read_dataset(write_tree(tmp_path, layout.files)).entries.values()))
    assert Counter(entry.objects.ids) == Counter(["7", "8"])
    place = entry.objects.ids.index("7")
    assert entry.objects.polygons[place] is not None
    assert entry.objects.keypoints[place].tolist() == [[5.5, 6.5, 2.0], [9.5, 6.5, 2.0]]
    assert not entry.objects.keypoints[1 - place].any()


def test_categories_with_other_keypoints(tmp_path: Path) -> None:
    """Each category has its own keypoints; those of one name share their place, and are written again by category."""
    from varlen.datasets.convert import convert

    categories = [
        {"id": 1, "name": "moth", "keypoints": ["head", "left tip", "right tip"], "skeleton": [[1, 2], [1, 3]]},
        {"id": 2, "name": "lamp", "keypoints": ["foot", "head"], "skeleton": [[1, 2]]},
    ]
    annotations = [box(1, 1, keypoints=[1, 1, 2, 2, 2, 2, 3, 3, 1]), box(2, 1, 2, keypoints=[4, 4, 2, 5, 5, 2])]
    written = {**coco([image(1, "a.jpg")], annotations), "categories": categories}
    found = read_dataset(write_tree(tmp_path / "in", {**pictures("a.jpg"), "all.json": written}))
    assert found.skeleton.names == ("head", "left tip", "right tip", "foot")
    moth, lamp = next(iter(found.entries.values())).objects.keypoints
    assert (moth[:, 2].tolist(), lamp[:, 2].tolist()) == ([2, 2, 1, 0], [2, 0, 0, 2])
    assert lamp[0, :2].tolist() == [5.5, 5.5]
    convert(found, tmp_path / "out")
    again = read_dataset(tmp_path / "out")
    assert again.digest() == found.digest()


ONE_WRONG = {**pictures("JPEGImages/a.jpg", "JPEGImages/b.jpg", "JPEGImages/c.jpg"), **{f"Annotations/{n}.xml": xml(f"{n}.jpg") for n in "abc"}}


@pytest.mark.parametrize("broken", ["a", "b", "c"])
def test_a_broken_label_file_never_makes_a_dataset_another_one(tmp_path: Path, broken: str) -> None:
    files = {**ONE_WRONG, f"Annotations/{broken}.xml": "<annotation><object>"}
    folder = write_tree(tmp_path, files)
    with pytest.raises(DatasetError, match=rf"Annotations/{broken}\.xml: not XML"):
        read_dataset(folder)
    problems = ReadProblems(strict=False)
    rest = read_dataset(folder, problems=problems)
    assert (rest.format, len(rest.entries), len(problems.noted)) == ("voc", 2, 1)


@pytest.mark.parametrize(
    ("files", "says"),
    [
        ({**pictures("images/a.jpg"), "labels/a.txt": "0 .5 .5 .2 .2", "data.yaml": "names: [moth]\ntrain: train.txt", "train.txt": "/x/other.jpg"},
         "train.txt: none of the 1 pictures it lists is here"),
        ({**pictures("a.jpg"), "notes.txt": "nothing", "readings.csv": "time,level\n1,2\n"}, "not recognised as a dataset; what is missing"),
        ({**pictures("images/a.jpg"), "labels/a.txt": "0 .5 .5 .2 .2", "data.yaml": "a: &a [x]\nnames: [*a, *a]"}, "anchors and aliases"),
        ({**pictures("images/a.jpg"), "data.yaml": "names: [moth]"}, "there is no text file of labels"),
        ({}, "there is no picture in it"),
    ],
)  # fmt: skip
def test_what_is_in_doubt_is_refused(tmp_path: Path, files: dict[str, Content], says: str) -> None:
    with pytest.raises(DatasetError, match=says):
        read_dataset(write_tree(tmp_path / "set", files) if files else tmp_path)


def test_the_class_of_binary_masks_is_asked_for(tmp_path: Path) -> None:
    folder = write_tree(tmp_path, LAYOUTS["binary masks"].files)
    with pytest.raises(NeedsAnswer, match="--mask-class") as question:
        read_dataset(folder)
    assert question.value.option == "mask_class"
    found = read_dataset(folder, options=ImportOptions(mask_class="moth"))
    assert [np.unique(found.label_map(key)).tolist() for key in found.entries] == [[0, 1], [0, 1]]  # type: ignore[arg-type]


def test_nothing_nearest_is_named_that_has_no_file_of_its_kind(tmp_path: Path) -> None:
    folder = write_tree(tmp_path, {**pictures("a.jpg"), "a.xyz": "?", "table.csv": "a,b\n1,2\n"})
    with pytest.raises(DatasetError, match=r"for table \(CSV\): a \.csv or \.jsonl file with a column for the picture"):
        read_dataset(folder)
