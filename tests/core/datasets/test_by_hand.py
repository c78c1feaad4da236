"""Files written by hand, in each format's own convention, and the one coordinate system they are read into."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image
from varlen.datasets.convert import KINDS, convert
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import READERS, WRITERS, catalogue, open_dataset, read_dataset, recognise, title_of
from varlen.datasets.formats.base import FileNames, LabelCounts
from varlen.datasets.formats.tree import Tree
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.recipes import shipped
from varlen.datasets.skeleton import Skeleton
from varlen.datasets.sources import open_files
from varlen.datasets.splits import default_splits, draw_splits, in_order, split_from_path
from varlen.datasets.summary import box_sides, channel_statistics, evenly_spaced, mean_and_deviation, summarise
from varlen.errors import DatasetError, ReadProblems
from varlen.model.geometry import Size

from tests.conftest import write_coco
from tests.core.golden.dataset import golden, pattern, png
from tests.core.scenes import objects_of, polygon, scene, square


def folder(root: Path, pictures: dict[str, tuple[int, int]], **texts: str) -> Path:
    """Pictures by path and size; texts by path, in which __ stands for a slash and _dot_ for a dot."""
    for number, (path, size) in enumerate(pictures.items()):
        (root / path).parent.mkdir(parents=True, exist_ok=True)
        (root / path).write_bytes(png(pattern(*size, number)))
    for name, text in texts.items():
        path = root / name.replace("__", "/").replace("_dot_", ".")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
    return root


def voc(*objects: str, size: str = "<size><width>40</width><height>30</height><depth>3</depth></size>", file: str = "a.png") -> str:
    return f"<annotation><filename>{file}</filename>{size}{''.join(objects)}</annotation>"


def thing(name: str, *box: float, more: str = "") -> str:
    sides = "".join(f"<{side}>{value}</{side}>" for side, value in zip(("xmin", "ymin", "xmax", "ymax"), box, strict=True))
    return f"<object><name>{name}</name>{more}<bndbox>{sides}</bndbox></object>"


def test_voc_counts_pixels_from_one_and_both_ends_belong_to_the_box(tmp_path: Path) -> None:
    first = voc(thing("moth", 1, 1, 40, 30), thing("beetle", 11, 6, 11, 6, more="<difficult>1</difficult><pose>Left</pose>"))
    root = folder(tmp_path, {"JPEGImages/a.png": (40, 30), "JPEGImages/b.png": (20, 10)}, Annotations__a_dot_xml=first,
                  Annotations__b_dot_xml=voc(size="<size><width>20.0</width><height>10</height></size>", file="b.png"),
                  ImageSets__Main__train_dot_txt="a\n", ImageSets__Main__val_dot_txt="b\n", ImageSets__Main__trainval_dot_txt="a\nb\n",
                  ImageSets__Main__moth_train_dot_txt="b 1\n")  # fmt: skip
    dataset = read_dataset(root)
    assert (dataset.format, dataset.classes, dataset.splits()) == ("voc", ("beetle", "moth"), ["train", "validation"])
    objects = dataset.entries["JPEGImages/a.png"].objects
    assert objects.boxes.tolist() == [[0, 0, 40, 30], [10, 5, 11, 6]]
    assert objects.classes.tolist() == [1, 0]
    assert objects.ids == ("1", "2")
    assert objects.attributes == ({}, {"difficult": 1, "pose": "Left"})
    assert len(dataset.entries["JPEGImages/b.png"].objects) == 0
    assert dataset.entries["JPEGImages/b.png"].split == "validation"
    # The order of classes may be given; one that is not in it is left out and named.
    (root / "classes.txt").write_text("moth\n\nlamp\n")
    problems = ReadProblems(strict=False)
    given = read_dataset(root, problems=problems)
    assert given.classes == ("moth", "lamp")
    assert given.entries["JPEGImages/a.png"].objects.classes.tolist() == [0]
    assert problems.noted == [("unknown-class", "Annotations/a.xml: class 'beetle' is not in the list of classes")]


def test_voc_label_pngs_are_masks_and_maps(tmp_path: Path) -> None:
    levels = np.zeros((30, 40), np.uint8)
    levels[5:8, 10:14], levels[20:22, 30:40], levels[0, 0] = 1, 2, 255
    root = folder(tmp_path, {"JPEGImages/a.png": (40, 30)}, Annotations__a_dot_xml=voc(thing("moth", 11, 6, 14, 8), thing("moth", 31, 21, 40, 22)))
    for kind in ("SegmentationObject", "SegmentationClass"):
        (root / kind).mkdir()
        (root / kind / "a.png").write_bytes(png(levels))
    dataset = read_dataset(root)
    masks = dataset.entries["JPEGImages/a.png"].objects.masks
    assert [(mask.left, mask.top, *mask.pixels.shape) for mask in masks if mask] == [(10, 5, 3, 4), (30, 20, 2, 10)]
    assert np.array_equal(dataset.label_map("JPEGImages/a.png"), levels)
    assert dataset.map_classes == ("background", "moth")


def test_yolo_shares_are_of_the_picture_and_continuous(tmp_path: Path) -> None:
    settings = "names: [moth, beetle]\ntrain: images/train\nval: images/val\nkpt_shape: [2, 3]\nflip_idx: [1, 0]\n"
    lines = "1 0.5 0.5 0.25 0.1 0.5 0.5 2 0.25 0.75 1\n0 0.1 0.2 0.2 0.4\n"
    root = folder(tmp_path, {"images/train/a.png": (40, 30), "images/val/b.png": (20, 10)}, data_dot_yaml=settings,
                  labels__train__a_dot_txt=lines)  # fmt: skip
    dataset = read_dataset(root)
    objects = dataset.entries["images/train/a.png"].objects
    assert (dataset.classes, dataset.splits(), objects.classes.tolist()) == (("moth", "beetle"), ["train", "validation"], [1, 0])
    assert np.allclose(objects.boxes, [[15, 13.5, 25, 16.5], [0, 0, 8, 12]])
    assert objects.keypoints.tolist() == [[[20, 15, 2], [10, 22.5, 1]], [[0, 0, 0], [0, 0, 0]]]
    assert dataset.swap.tolist() == [1, 0]
    assert dataset.skeleton.names == ("point 1", "point 2")
    assert len(dataset.entries["images/val/b.png"].objects) == 0


def test_yolo_classes_without_names_are_numbered(tmp_path: Path) -> None:
    lines = "0 0.5 0.5 0.2 0.2\n\n3 0.5 0.5 0.2 0.2\n"
    root = folder(tmp_path, {"images/a.png": (40, 30)}, labels__a_dot_txt=lines)
    dataset = read_dataset(root)
    assert dataset.classes == ("class 0", "class 1", "class 2", "class 3")
    assert dataset.entries["images/a.png"].objects.classes.tolist() == [0, 3]


def test_voc_numbers_objects_up_to_254_and_keeps_255_for_what_is_not_labelled(tmp_path: Path) -> None:
    many = scene({"a": [{"polygon": polygon(square(n % 20 * 5, n // 20 * 5, n % 20 * 5 + 4, n // 20 * 5 + 4))} for n in range(260)]}, a=Size(100, 80))
    convert(many, tmp_path / "voc", "voc", accept_loss="all")
    (file,) = (tmp_path / "voc" / "SegmentationObject").iterdir()
    levels = np.asarray(Image.open(file))
    assert sorted(set(levels.ravel().tolist())) == list(range(255))
    assert (levels == 254).sum() == 16 * 7  # the 254th and all after it


def test_yolo_outlines_and_points_without_visibility(tmp_path: Path) -> None:
    root = folder(tmp_path / "outlines", {"images/a.png": (40, 30)}, labels__a_dot_txt="0 0.25 0.1 0.75 0.1 0.75 0.9 0.25 0.9\n")
    objects = read_dataset(root).entries["images/a.png"].objects
    assert np.allclose(objects.boxes, [[10, 3, 30, 27]])
    assert np.allclose(objects.outlines.points, [[10, 3], [30, 3], [30, 27], [10, 27]])
    settings = "names: {0: moth}\nkpt_shape: [2, 2]\nkpt_names: {0: [head, tip]}\n"
    root = folder(tmp_path / "points", {"images/a.png": (40, 30)}, data_dot_yaml=settings, labels__a_dot_txt="0 0.5 0.5 0.5 0.5 0.25 0.5 0 0\n")
    dataset = read_dataset(root)
    assert dataset.entries["images/a.png"].objects.keypoints.tolist() == [[[10, 15, 2], [0, 0, 0]]]
    assert dataset.skeleton.names == ("head", "tip")


@pytest.mark.parametrize(
    ("settings", "lines", "message"),
    [
        ("names: [moth]", "0 0.5 0.5 0.5\n", "labels/a.txt, line 1: 4, or an even number from 6 on, numbers are expected"),
        ("names: [moth]", "0 0.5 0.5 0.5 0.5\n0 0.5 0.5 -0.5 0.5\n", "labels/a.txt, line 2: negative size"),
        ("names: [moth]", "1 0.5 0.5 0.5 0.5\n", "labels/a.txt, line 1: class 1 is not one of"),
        ("names: {0: moth, 2: late}", "", "data.yaml: names must be numbered from 0 without gaps"),
        ("names: [moth]\nkpt_shape: [2, 4]", "", "data.yaml: kpt_shape must be"),
        ("names: [moth]\nkpt_shape: [2, 3]\nflip_idx: [0, 0]", "", "data.yaml: flip_idx must name each of the 2 keypoints once"),
    ],
)
def test_yolo_says_what_is_wrong_and_where(tmp_path: Path, settings: str, lines: str, message: str) -> None:
    root = folder(tmp_path, {"images/a.png": (40, 30)}, data_dot_yaml=settings, labels__a_dot_txt=lines)
    with pytest.raises(DatasetError) as caught:
        list(read_dataset(root).entries)
    assert message.split(" is not one of")[0] in str(caught.value)


def test_coco_corners_are_continuous_and_keypoints_name_pixels(tmp_path: Path) -> None:
    annotations = [
        {"id": 7, "image_id": 1, "category_id": 9, "bbox": [1.5, 2, 10, 20], "iscrowd": 0, "keypoints": [3, 4, 2, 0, 0, 0], "note": "late"},
        {"id": 8, "image_id": 1, "category_id": 4, "segmentation": [[0, 0, 10, 0, 10, 5], [20, 20, 30, 20, 30, 28]], "iscrowd": 0},
        {"id": 9, "image_id": 1, "category_id": 4, "bbox": [0, 0, 4, 4], "iscrowd": 1, "segmentation": {"size": [30, 40], "counts": [0, 2, 1198]}},
    ]
    categories = [{"id": 9, "name": "moth", "keypoints": ["left tip", "right tip"], "skeleton": [[1, 2]]}, {"id": 4, "name": "beetle"}]
    image = {"id": 1, "file_name": "a.png", "width": 40, "height": 30, "group": "dusk", "camera": 3}
    content = {"images": [image], "annotations": annotations, "categories": categories, "info": {"year": 2026}}
    root = folder(tmp_path, {"images/val/a.png": (40, 30)}, annotations__val_dot_json=json.dumps(content))
    dataset = read_dataset(root)
    entry = dataset.entries["images/val/a.png"]
    objects = entry.objects
    assert (dataset.classes, entry.split, entry.group, entry.extra) == (("beetle", "moth"), "validation", "dusk", {"group": "dusk", "camera": 3})
    assert objects.boxes.tolist() == [[1.5, 2, 11.5, 22], [0, 0, 30, 28], [0, 0, 4, 4]]
    assert objects.classes.tolist() == [1, 0, 0]
    assert objects.keypoints[0].tolist() == [[3.5, 4.5, 2], [0, 0, 0]]
    assert objects.crowd.tolist() == [False, False, True]
    assert objects.attributes == ({"note": "late"}, {}, {})
    assert len(objects.polygons[1] or ()) == 2
    mask = objects.masks[2]
    assert mask is not None
    assert (mask.left, mask.top, mask.pixels.tolist()) == (0, 0, [[1], [1]])  # runs go down the columns
    assert (dataset.skeleton.edges, dataset.swap.tolist()) == (((0, 1),), [1, 0])


def test_class_folders_and_mask_pairs(tmp_path: Path) -> None:
    root = folder(tmp_path / "folders", {"train/copper hook/a.png": (4, 3), "val/ash veil/b.png": (4, 3), "test/ash veil/c.png": (4, 3)})
    dataset = read_dataset(root)
    assert (dataset.format, dataset.classes) == ("class-folders", ("ash veil", "copper hook"))
    assert {key: (entry.split, entry.classes) for key, entry in dataset.entries.items()} == {
        "train/copper hook/a.png": ("train", ("copper hook",)), "val/ash veil/b.png": ("validation", ("ash veil",)),
        "test/ash veil/c.png": ("test", ("ash veil",)),
    }  # fmt: skip
    table = json.dumps({"0": {"name": "background"}, "2": {"name": "moth"}})
    root = folder(tmp_path / "masks", {"images/train/a.png": (4, 3)}, classes_dot_json=table)
    (root / "masks" / "train").mkdir(parents=True)
    levels = np.array([[0, 2, 2, 255]] * 3, np.uint8)
    (root / "masks" / "train" / "a.png").write_bytes(png(levels))
    dataset = read_dataset(root)
    assert (dataset.format, dataset.map_classes) == ("mask-pairs", ("background", "level 1", "moth"))
    assert np.array_equal(dataset.label_map("images/train/a.png"), levels)


def test_mask_pairs_without_a_table_have_as_many_classes_as_levels(tmp_path: Path) -> None:
    root = folder(tmp_path, {f"images/{key}.png": (3, 2) for key in "ab"})
    (root / "masks").mkdir()
    for key, levels in (("a", [[0, 1, 1], [0, 0, 255]]), ("b", [[3, 0, 0], [3, 0, 0]])):
        (root / "masks" / f"{key}.png").write_bytes(png(np.array(levels, np.uint8)))
    dataset = read_dataset(root)
    assert dataset.map_classes == ("level 0", "level 1", "level 2", "level 3")
    (root / "masks" / "b.png").unlink()
    problems = ReadProblems(strict=False)
    assert list(read_dataset(root, None, problems).entries) == ["images/a.png"]
    assert problems.noted == [("missing-file", "images/b.png: there is no mask of the same name")]
    for table in ('{"255": {"name": "moth"}}', '{"one": {"name": "moth"}}', '{"1": "moth"}', "[]"):
        (root / "classes.json").write_text(table)
        with pytest.raises(DatasetError, match=r"classes.json: expected numbers from 0 to 254, each with a name"):
            read_dataset(root, None, ReadProblems(strict=False))


@pytest.mark.parametrize(
    ("path", "split"),
    [("train/a.png", "train"), ("x/Val/a.png", "validation"), ("VALID/y/a.png", "validation"), ("testing/a.png", "test"), ("a/train.png", None),
     ("training/test/a.png", "train"), ("a.png", None)],
)  # fmt: skip
def test_splits_named_by_folders(path: str, split: str | None) -> None:
    assert split_from_path(path) == split
    assert in_order(["night", "test", "dusk", "train", "test"]) == ["train", "test", "dusk", "night"]


def test_drawn_splits_share_out_every_class_exactly() -> None:
    strata = {name: [f"{name}/{n}" for n in range(count)] for name, count in (("a", 40), ("b", 25), ("c", 3))}
    found = draw_splits(strata, {}, (0.2, 0.1), 5)
    for name, validation, test in (("a", 8, 4), ("b", 5, 2), ("c", 1, 0)):
        splits = [found[key] for key in strata[name]]
        assert (splits.count("validation"), splits.count("test"), len(splits)) == (validation, test, len(strata[name]))
    assert draw_splits(strata, {}, (0.2, 0.1), 6) != found
    assert draw_splits(dict(reversed(strata.items())), {}, (0.2, 0.1), 5) == found
    assert set(draw_splits(strata, {}, (0.0, 0.0), 5).values()) == {"train"}
    pairs = {f"a/{n}": f"pair {n // 2}" for n in range(40)}
    together = draw_splits(strata, pairs, (0.2, 0.1), 5)
    assert all(together[f"a/{n}"] == together[f"a/{n + 1}"] for n in range(0, 40, 2))
    assert [list(together.values()).count(split) for split in ("validation", "test")] == [14, 6]
    tenth = default_splits({"a": [f"{n}" for n in range(50)]})
    assert [list(tenth.values()).count(split) for split in ("train", "validation", "test")] == [40, 5, 5]


@pytest.mark.parametrize(
    ("names", "swap"),
    [
        (["left tip", "right tip"], [1, 0]), (["tip left", "head", "tip right"], [2, 1, 0]), (["Left", "Right"], [1, 0]),
        (["leftover", "right"], [0, 1]),
        (["left tip", "left antenna", "right antenna"], [0, 2, 1]), (["bright tip", "blight tip"], [0, 1]), ([], []),
    ],
)  # fmt: skip
def test_mirror_pairs_by_name(names: list[str], swap: list[int]) -> None:
    assert Skeleton(tuple(names)).swap().tolist() == swap
    assert Skeleton(tuple(names), partners=tuple(range(len(names)))).swap().tolist() == list(range(len(names)))


def test_a_summary_counts_what_there_is() -> None:
    dataset = golden()
    found = summarise(dataset)
    assert found["splits"] == {"train": {"images": 14, "objects": 98}, "validation": {"images": 1, "objects": 7}, "test": {"images": 1, "objects": 7}}
    assert found["classes"]["ash veil"] == {"train": 38, "validation": 3, "test": 2}  # two objects in each, and image classes
    assert found["objects"] == {"boxes": 112, "polygons": 32, "oriented_boxes": 0, "masks": 16, "crowd": 16}
    assert found["image_sizes"]["40×26"] == 8
    assert (found["keypoints"], found["mirror_pairs"]) == (["head", "left tip", "right tip"], [["left tip", "right tip"]])
    assert found["label_maps"] == ["background", "moth", "lamp glare"]
    pixels = np.concatenate([dataset.pixels(key).reshape(-1, 3) for key in dataset.by_split()["train"]])
    assert np.allclose(found["channel_mean"], pixels.mean(axis=0), atol=6e-4)
    assert np.allclose(found["channel_std"], pixels.std(axis=0), atol=6e-4)
    assert channel_statistics(dataset, lambda: None) == (found["channel_mean"], found["channel_std"])
    assert mean_and_deviation(np.zeros((3, 256), np.int64)) == ([], [])


def test_sides_and_even_spacing() -> None:
    assert box_sides(np.array([[0, 0, 4, 9], [5, 5, 5, 9], [3, 3, 1, 1.0]])).tolist() == [6, 0, 2]
    assert evenly_spaced("abcdefgh", 4) == ["a", "c", "e", "g"]
    assert evenly_spaced("abc", 3) == evenly_spaced("abc", 9) == ["a", "b", "c"]
    assert evenly_spaced("abcde", 2) == ["a", "c"]


def test_label_counts_say_what_a_format_loses() -> None:
    counts = LabelCounts(golden())
    assert (counts.boxes, counts.outlines, counts.holes, counts.parts, counts.masks) == (112, 32, 16, 16, 16)
    assert (counts.keypoints, counts.crowd, counts.extra, counts.classes, counts.many_classes, counts.label_maps) == (80, 16, 16, 16, 0, 4)
    assert counts.lost(holes="holes", many_classes="several classes", crowd="crowds") == ["16 holes", "16 crowds"]
    lost = {name: writer(golden()).losses() for name, writer in WRITERS.items()}
    assert lost["tar"] == []
    assert lost["coco"] == ["16 images have image-level classes", "4 label maps"]
    assert lost["class-folders"] == ["112 objects", "4 label maps"]
    assert "32 outlines" in lost["yolo"]
    assert "80 keypoints" in lost["yolo-polygons"]
    assert lost["mask-pairs"] == ["112 objects", "16 images have image-level classes"]


def test_the_catalogue_names_every_format_once() -> None:
    found = {each.name: each for each in catalogue()}
    assert set(found) >= set(WRITERS)
    assert [each.name for each in catalogue()] == list(found)
    assert {name for name, each in found.items() if each.reads} == {*READERS, *shipped()}
    assert {name for name, each in found.items() if not each.coded} == {"npz", "npz-chw"}
    assert all(bool(each.convention) == each.reads and bool(each.layout) == each.writes and each.title for each in found.values())
    assert all(set(each.holds) <= set(KINDS) for each in found.values())
    assert (title_of("yolo"), title_of("yolo", reading=True), title_of("coco", reading=True)) == ("YOLO, boxes", "YOLO", "COCO")


def test_names_of_written_pictures_are_short_and_never_shared() -> None:
    keys = ["images/train/a.jpg", "train/a.png", "b/a.jpg", "B/a.jpg", "images/c.jpg"]
    names = FileNames(scene({key: [] for key in keys}))
    found = {key: names[key] for key in keys}
    assert found["images/c.jpg"] == "c"
    assert len({name.lower() for name in found.values()}) == len(keys)
    assert found["images/train/a.jpg"].startswith("a_")
    assert found["b/a.jpg"].startswith("b_a_")
    assert names.in_many_splits() == set()
    two = scene({"images/train/a.jpg": [], "images/test/a.jpg": []})
    from dataclasses import replace

    moved = Dataset("two", two.classes, [replace(each, split=key.split("/")[1]) for key, each in two.entries.items()], two.files)
    assert FileNames(moved).in_many_splits() == {"a"}


def options(**values: Any) -> ImportOptions:
    return ImportOptions.from_json(values)


def test_classes_are_renamed_joined_and_left_out() -> None:
    chosen = options(classes=[["moth", "insect"], ["lamp", ""], ["beetle", "insect"], ["late", "late"]])
    found = ("beetle", "lamp", "late", "moth")
    assert chosen.class_names(found) == ("insect", "late")
    rows = [{"box": [0, 0, 1, 1], "class": n, "id": name} for n, name in enumerate(found)]
    from varlen.datasets.entry import Entry
    from varlen.model.geometry import Size

    entry = chosen.with_classes(Entry("a", "train", Size(4, 3), objects_of("a", rows), classes=("lamp", "moth", "beetle")), found)
    assert entry.objects.ids == ("beetle", "late", "moth")
    assert entry.objects.classes.tolist() == [0, 1, 0]
    assert entry.classes == ("insect",)
    assert options().class_names(found) == found
    with pytest.raises(DatasetError, match="'wasp' of the files is missing"):
        chosen.class_names((*found, "wasp"))


@pytest.mark.parametrize(
    ("groups", "key", "group"),
    [
        ("", "a/b_frame3.jpg", "own"), ("folder", "a/b/c.jpg", "a/b"), ("folder", "c.jpg", ""), ("field:camera", "c.jpg", "7"),
        ("field:none", "c.jpg", ""), ("name:{group}_frame#", "a/night_2_frame31.jpg", "night_2"), ("name:{group}_frame#", "a/night.jpg", ""),
        ("name:*-{group}", "x-y-dusk.jpg", "dusk"),
    ],
)  # fmt: skip
def test_where_groups_are_derived_from(groups: str, key: str, group: str) -> None:
    entry = golden().entries["images/wide.png"]
    from dataclasses import replace

    assert options(groups=groups).group_of(replace(entry, key=key, group="own", extra={"camera": 7})) == group


@pytest.mark.parametrize(
    "values",
    [{"exif": "sideways"}, {"splits": "some"}, {"shares": [0.5, 0.5]}, {"shares": [-0.1, 0.1]}, {"groups": "color"}, {"groups": "name:frame"},
     {"groups": "name:{group}{group}"}, {"groups": "name:{group}****"}, {"groups": "name:{group}" + "a" * 200}],
)  # fmt: skip
def test_options_that_can_t_be_are_refused(values: dict[str, Any]) -> None:
    with pytest.raises(DatasetError, match="import options: "):
        options(**values)
    assert options(shares=[0.5, 0.49]).shares == (0.5, 0.49)


def test_formats_are_recognised_by_their_files(tmp_path: Path) -> None:
    assert recognise(Tree(open_files(folder(tmp_path / "plain", {"a.png": (4, 3)}))))[0] == "pictures"
    assert recognise(Tree(open_files(folder(tmp_path / "yolo", {"images/a.png": (4, 3)}, labels__a_dot_txt=""))))[0] == "yolo"
    with pytest.raises(DatasetError, match="no dataset format 'other' to read; known are coco, voc"):
        open_dataset(tmp_path / "yolo", ImportOptions("other"))
    form, files, reading, *_ = open_dataset(tmp_path / "yolo")
    assert (form, files.name, reading.count) == ("yolo", "yolo", 1)


@pytest.mark.parametrize(("group", "expected"), [("dusk", "dusk"), (7, "7"), (None, ""), (["a"], ""), (1.5, "")])
def test_groups_of_coco_images(tmp_path: Path, group: Any, expected: str) -> None:
    image = {
        "id": 1,
        "file_name": "a.png",
        "width": 4,
        "height": 4,
        "pixels": np.zeros((4, 4, 3), np.uint8),
        **({} if group is None else {"group": group}),
    }
    write_coco(tmp_path, [image], [])
    (one,) = read_dataset(tmp_path).entries.values()
    assert one.group == expected
    assert one.extra.get("group") == group


def test_coco_boxes_are_taken_from_outlines_and_masks_where_none_is_given(tmp_path: Path) -> None:
    image = {"id": 1, "file_name": "a.png", "width": 40, "height": 30, "pixels": np.zeros((30, 40, 3), np.uint8)}
    outlines = [[5, 6, 15, 6, 15, 20, 5, 20], [20, 2, 30, 2, 25, 9]]
    runs = {"size": [30, 40], "counts": [30 * 4 + 3, 5, 25, 5, 30 * 34 - 8 + 30]}  # columns 4 and 5, rows 3 to 7
    rows = [{"id": 1, "image_id": 1, "category_id": 1, "segmentation": outlines}, {"id": 2, "image_id": 1, "category_id": 1, "segmentation": runs}]
    write_coco(tmp_path, [image], rows)
    (one,) = read_dataset(tmp_path).entries.values()
    assert one.objects.boxes.tolist() == [[5, 2, 30, 20], [4, 3, 6, 8]]
    assert one.objects.keypoints.tolist() == [[[0, 0, 0]], [[0, 0, 0]]]  # the class has one, and neither object says where
