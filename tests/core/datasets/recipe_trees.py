"""A small tree of every layout that a shipped recipe reads."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

PIC = (100, 80)
BOX = [10.0, 20.0, 40.0, 60.0]


class Laid(NamedTuple):
    """A tree, and of one of its pictures the class, box and attributes of its first object, its own classes and its split."""

    files: dict[str, Any]
    picture: str
    label: str | None
    box: list[float] | None = BOX
    attributes: dict[str, Any] = {}  # noqa: RUF012
    classes: tuple[str, ...] = ()
    split: str | None = None
    images: int = 1


def ids(*rows: tuple[int, int, int, int, int]) -> np.ndarray[Any, Any]:
    """A picture of ids in its bands: x0, y0, x1, y1 and the id of each."""
    found = np.zeros((80, 100, 3), np.uint8)
    for x0, y0, x1, y1, number in rows:
        found[y0:y1, x0:x1] = (number & 255, number >> 8 & 255, number >> 16)
    return found


DRIVEN = "Car 0.25 1 -1.57 10 20 40 60 1.5 1.6 3.7 1 2 3 -1.5\nDontCare -1 -1 -10 1 2 3 4 -1 -1 -1 -1000 -1000 -1000 -10\n"
PLACES = ("annotations/panoptic_train.json", "annotations/panoptic_train/7.png", "train/7.jpg")
TREES = {
    "driving-columns": Laid(
        {
            "training/image_2/000001.png": PIC,
            "training/label_2/000001.txt": DRIVEN,
            "training/calib/000001.txt": "P0: 1 2\n",
            "testing/image_2/000009.png": PIC,
        },
        "training/image_2/000001.png",
        "Car",
        BOX,
        {"truncated": 0.25, "occluded": 1, "angle": -1.57},
        (),
        "train",
        2,
    ),
    "face-list": Laid(
        {"pictures/a/1.jpg": PIC, "pictures/a/2.jpg": PIC, "list.txt": "a/1.jpg\n1\n10 20 30 40 0 1\na/2.jpg\n0\n0 0 0 0 0 0\n"},
        "pictures/a/1.jpg",
        "face",
        images=2,
    ),
    "pedestrian-tracks": Laid(
        {
            "train/S2/img1/000001.jpg": PIC,
            "train/S2/gt/gt.txt": "1,7,11,21,30,40,1,1,0.5\n",
            "train/S2/det/det.txt": "1,-1,5,5,5,5,0.3\n",
            "train/S2/seqinfo.ini": "x",
        },
        "train/S2/img1/000001.jpg",
        "pedestrian",
        BOX,
        {"track_id": 7, "score": 1, "visibility": 0.5},
        (),
        "train",
    ),
    "aerial-columns": Laid(
        {"town/images/1.jpg": PIC, "town/annotations/1.txt": "10,20,30,40,1,4,0,1\n", "town/images/2.jpg": PIC, "town/annotations/2.txt": ""},
        "town/images/1.jpg",
        "4",
        BOX,
        {"score": 1, "truncation": 0, "occlusion": 1},
        images=2,
    ),
    "split-json": Laid(
        {
            "images/train/a.jpg": PIC,
            "labels/train.json": [
                {
                    "name": "a.jpg",
                    "attributes": {"weather": "rain"},
                    "labels": [{"category": "car", "attributes": {"occluded": True}, "box2d": {"x1": 10, "y1": 20, "x2": 40, "y2": 60}, "id": 5}],
                }
            ],
        },
        "images/train/a.jpg",
        "car",
        BOX,
        {"occluded": True, "id": 5},
        (),
        "train",
    ),
    "street-polygons": Laid(
        {
            "leftImg8bit/val/town/town_1_leftImg8bit.png": PIC,
            "gtFine/val/town/town_1_gtFine_labelIds.png": PIC,
            "gtFine/val/town/town_1_gtFine_polygons.json": {
                "imgHeight": 80,
                "imgWidth": 100,
                "objects": [{"label": "road", "polygon": [[10, 20], [40, 20], [40, 60]]}],
            },
        },
        "leftImg8bit/val/town/town_1_leftImg8bit.png",
        "road",
        BOX,
        {},
        (),
        "validation",
    ),
    "bird-ids": Laid(
        {
            "images/001.Wren/a.jpg": PIC,
            "images/002.Lark/b.jpg": PIC,
            "images.txt": "1 001.Wren/a.jpg\n2 002.Lark/b.jpg\n",
            "image_class_labels.txt": "1 1\n2 2\n",
            "bounding_boxes.txt": "1 10.0 20.0 30.0 40.0\n2 1 1 5 5\n",
            "train_test_split.txt": "1 0\n2 1\n",
            "classes.txt": "1 001.Wren\n2 002.Lark\n",
            "parts/part_locs.txt": "1 1 5 5 1\n",
        },
        "images/001.Wren/a.jpg",
        "001.Wren",
        BOX,
        {"id": 1},
        ("001.Wren",),
        "test",
        2,
    ),
    "val-annotations": Laid(
        {
            "train/n01/images/n01_0.JPEG": PIC,
            "train/n01/n01_boxes.txt": "n01_0.JPEG\t10\t20\t40\t60\n",
            "val/images/val_0.JPEG": PIC,
            "val/val_annotations.txt": "val_0.JPEG\tn01\t10\t20\t40\t60\n",
            "wnids.txt": "n01\n",
            "words.txt": "n01\tmoth\n",
            "test/images/test_0.JPEG": PIC,
        },
        "val/images/val_0.JPEG",
        "n01",
        BOX,
        {},
        ("n01",),
        "validation",
        3,
    ),
    "region-json": Laid(
        {
            "a.jpg": PIC,
            "via.json": {
                "a.jpg123": {
                    "filename": "a.jpg",
                    "size": 123,
                    "regions": [
                        {
                            "shape_attributes": {"name": "polygon", "all_points_x": [10, 40, 40], "all_points_y": [20, 20, 60]},
                            "region_attributes": {"type": "moth"},
                        },
                        {"shape_attributes": {"name": "circle", "cx": 50, "cy": 40, "r": 10}, "region_attributes": {"type": "lamp"}},
                    ],
                    "file_attributes": {},
                }
            },
        },
        "a.jpg",
        "moth",
    ),
    "pose-json": Laid(
        {
            "images/a.jpg": PIC,
            "annot/train.json": [{"image": "a.jpg", "scale": 1.5, "joints_vis": [1] * 15 + [0], "joints": [[10, 20], [40, 60]] + [[20, 30]] * 14}],
        },
        "images/a.jpg",
        "person",
        BOX,
        {"scale": 1.5},
    ),
    "one-hot-table": Laid(
        {"input/x1.jpg": PIC, "input/x2.jpg": PIC, "truth.csv": "image,MEL,NEV\nx1,1.0,0.0\nx2,0.0,1.0\n"},
        "input/x1.jpg",
        None,
        None,
        {},
        ("MEL",),
        None,
        2,
    ),
    "cloud-table": Laid(
        {"pictures/a.jpg": PIC, "list.csv": "VALIDATE,gs://bucket/pictures/a.jpg,moth,0.1,0.25,,,0.4,0.75,,\n"},
        "pictures/a.jpg",
        "moth",
        BOX,
        {},
        (),
        "validation",
    ),
    "object-masks": Laid(
        {
            "train/s1/images/s1.png": PIC,
            "train/s1/masks/m1.png": ids((10, 20, 40, 60, 0xFFFFFF)),
            "train/s1/masks/m2.png": ids((60, 0, 70, 9, 0xFFFFFF)),
        },
        "train/s1/images/s1.png",
        "object",
        BOX,
        {},
        (),
        "train",
    ),
    "panoptic": Laid(
        {
            PLACES[2]: PIC,
            PLACES[1]: ids((10, 20, 40, 60, 70_000), (50, 50, 60, 60, 5)),
            PLACES[0]: {
                "images": [{"id": 7, "file_name": "7.jpg", "width": 100, "height": 80}],
                "categories": [{"id": 3, "name": "moth", "isthing": 1}, {"id": 4, "name": "sky"}],
                "annotations": [
                    {
                        "image_id": 7,
                        "file_name": "7.png",
                        "segments_info": [{"id": 70_000, "category_id": 3, "area": 1200, "iscrowd": 0}, {"id": 5, "category_id": 4, "area": 100}],
                    }
                ],
            },
        },
        PLACES[2],
        None,
        None,
        {},
        (),
        "train",
    ),
    "hub-rows": Laid(
        {
            "train/a.jpg": PIC,
            "train/metadata.jsonl": '{"file_name": "a.jpg", "objects": {"bbox": [[10, 20, 30, 40]], "categories": ["moth"], "score": [0.5]}}\n',
        },
        "train/a.jpg",
        "moth",
        BOX,
        {"score": 0.5},
        (),
        "train",
    ),
}
