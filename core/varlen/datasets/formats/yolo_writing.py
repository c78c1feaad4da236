"""Writing YOLO text: boxes, outlines, oriented boxes or keypoints; see `yolo` for the format's conventions."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
import yaml

from varlen.datasets.formats.base import EncodedLabels, ImageLabels, Writer, WrittenImage
from varlen.datasets.formats.oriented_text import corners_of
from varlen.datasets.formats.yolo import text_of
from varlen.kernels.outlines import ring_area
from varlen.model.geometry import Size
from varlen.shapes.polygons import polygon_from_mask

DIGITS = 8


class _YoloWriter(Writer):
    """Writes `images/`, `labels/` and `data.yaml`."""

    def encode_labels(self, file: str, labels: ImageLabels) -> EncodedLabels:
        sure = [[each["confidence"]] if "confidence" in each else [] for each in labels.objects.attributes]
        lines = [" ".join([str(number), *map(_share, (*values, *more))]) for (number, values), more in zip(self.lines(labels), sure, strict=True)]
        return EncodedLabels(files={text_of(file): "".join(f"{line}\n" for line in lines).encode()})

    def lines(self, labels: ImageLabels) -> list[tuple[int, list[float]]]:
        """Class and shares of each object."""
        raise NotImplementedError

    def write_label_files(self, folder: Path, splits: list[str], images: Iterable[WrittenImage]) -> list[str]:
        super().write_label_files(folder, splits, images)
        settings: dict[str, Any] = {"path": ".", **{"val" if split == "validation" else split: f"images/{split}" for split in splits}}
        settings["names"] = dict(enumerate(self.dataset.classes))
        (folder / "data.yaml").write_text(yaml.safe_dump({**settings, **self.more()}, sort_keys=False, allow_unicode=True), "utf-8")
        return ["data.yaml"]

    def more(self) -> dict[str, Any]:
        """What else `data.yaml` says."""
        return {}


def _share(value: float) -> str:
    text = f"{value:.{DIGITS}f}".rstrip("0").rstrip(".")
    return "0" if text in ("-0", "") else text


def _box(box: list[float], size: Size) -> list[float]:
    x0, y0, x1, y1 = box
    return [(x0 + x1) / 2 / size.width, (y0 + y1) / 2 / size.height, (x1 - x0) / size.width, (y1 - y0) / size.height]


_ALWAYS_LOST = {
    "crowd": "marks of regions of many", "extra": "objects have fields of their own", "classes": "images have image-level classes",
    "label_maps": "label maps",
}  # fmt: skip


class YoloBoxesWriter(_YoloWriter):
    """Boxes only."""

    name: ClassVar[str] = "yolo"
    title: ClassVar[str] = "YOLO, boxes"
    layout: ClassVar[str] = "`data.yaml` names classes and splits; one text file of boxes per picture in `labels/`."
    holds = frozenset({"boxes", "attributes"})
    fields = frozenset({"confidence"})

    def lines(self, labels: ImageLabels) -> list[tuple[int, list[float]]]:
        objects = labels.objects
        return [(number, _box(box, labels.size)) for number, box in zip(objects.classes.tolist(), objects.boxes.tolist(), strict=True)]

    def losses(self) -> list[str]:
        return self.contents.lost(outlines="outlines", masks="masks", keypoints="keypoints", **_ALWAYS_LOST)


class YoloPolygonsWriter(_YoloWriter):
    """One outline for each object; a box where it has none."""

    name: ClassVar[str] = "yolo-polygons"
    title: ClassVar[str] = "YOLO, outlines"
    layout: ClassVar[str] = "`data.yaml` names classes and splits; one text file of outlines per picture in `labels/`."
    holds = frozenset({"boxes", "masks", "polygons", "attributes"})
    fields = frozenset({"confidence"})

    def lines(self, labels: ImageLabels) -> list[tuple[int, list[float]]]:
        objects, size = labels.objects, labels.size
        found = []
        for place, (number, box) in enumerate(zip(objects.classes.tolist(), objects.boxes.tolist(), strict=True)):
            mask = objects.masks[place]
            polygon = polygon_from_mask(mask) if mask is not None else objects.outlines.polygon(place)
            x0, y0, x1, y1 = box
            ring = np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]])
            if polygon:
                ring = max((part.outline for part in polygon), key=ring_area)
            found.append((number, (ring / [size.width, size.height]).ravel().tolist()))
        return found

    def losses(self) -> list[str]:
        return self.contents.lost(parts="further parts of outlines", holes="holes", keypoints="keypoints",
                                           masks="masks, written as the outline of their largest part", **_ALWAYS_LOST)  # fmt: skip


class YoloOrientedWriter(_YoloWriter):
    """Four corners for each object; those of its upright box where it has no oriented one."""

    name: ClassVar[str] = "yolo-oriented"
    title: ClassVar[str] = "YOLO, oriented boxes"
    layout: ClassVar[str] = "`data.yaml` names classes and splits; one text file of four corners per object and picture in `labels/`."
    holds = frozenset({"boxes", "oriented_boxes", "attributes"})
    fields = frozenset({"confidence"})

    def lines(self, labels: ImageLabels) -> list[tuple[int, list[float]]]:
        objects, size = labels.objects, labels.size
        corners = ((corners_of(objects, place) / [size.width, size.height]).ravel().tolist() for place in range(len(objects)))
        return list(zip(objects.classes.tolist(), corners, strict=True))

    def losses(self) -> list[str]:
        return []


class YoloKeypointsWriter(_YoloWriter):
    """Boxes with keypoints."""

    name: ClassVar[str] = "yolo-keypoints"
    title: ClassVar[str] = "YOLO, keypoints"
    layout: ClassVar[str] = "`data.yaml` names classes, splits and keypoints; one text file per picture in `labels/`."
    holds = frozenset({"boxes", "keypoints", "attributes"})
    fields = frozenset({"confidence"})

    def lines(self, labels: ImageLabels) -> list[tuple[int, list[float]]]:
        objects, size = labels.objects, labels.size
        found = []
        for number, box, points in zip(objects.classes.tolist(), objects.boxes.tolist(), objects.keypoints.tolist(), strict=True):
            shares = [value for x, y, visible in points for value in ((x / size.width, y / size.height, visible) if visible else (0.0, 0.0, 0.0))]
            found.append((number, [*_box(box, size), *shares]))
        return found

    def more(self) -> dict[str, Any]:
        names = list(self.dataset.skeleton.names)
        count = len(names) or max((entry.objects.keypoints.shape[1] for entry in self.dataset.entries.values() if len(entry.objects)), default=0)
        if not count:
            return {}
        swap = self.dataset.swap.tolist()
        return {"kpt_shape": [count, 3], "flip_idx": swap if len(swap) == count else list(range(count)), "kpt_names": {0: names}}

    def losses(self) -> list[str]:
        return self.contents.lost(outlines="outlines", masks="masks", **_ALWAYS_LOST)
