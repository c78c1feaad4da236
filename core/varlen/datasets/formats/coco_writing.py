"""Writing COCO JSON: a label file for every split, images and annotations as their rows come."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
import orjson
from numpy.typing import NDArray

from varlen.datasets.dataset import Dataset
from varlen.datasets.formats.base import EncodedLabels, ImageLabels, Writer, WrittenImage, json_bytes
from varlen.datasets.formats.coco_objects import IMAGE_FIELDS, NAME, OBJECT_FIELDS, ORIENTED, places_of_points, point_names
from varlen.model.geometry import Size
from varlen.model.objects import Objects
from varlen.shapes.polygons import mask_from_polygon, ring_areas
from varlen.shapes.rle import encode

SORTED = orjson.OPT_SORT_KEYS


class CocoWriter(Writer):
    """Writes `annotations/<split>.json` and `images/<split>/`."""

    name = NAME
    title = "COCO"
    layout = "One `annotations/<split>.json` per split in COCO form; pictures in `images/<split>/`."
    holds = frozenset(
        (
            "boxes",
            "masks",
            "polygons",
            "keypoints",
            "oriented_boxes",
            "attributes",
            "crowd",
        )
    )

    def encode_labels(self, file: str, labels: ImageLabels) -> EncodedLabels:
        image = {"file_name": file.split("/", 2)[2], "width": labels.size.width, "height": labels.size.height, **_free(labels.extra, IMAGE_FIELDS)}
        objects = describe_objects(labels.objects, labels.size, self.dataset)
        return EncodedLabels(orjson.dumps(image, option=SORTED), [json_bytes(each, SORTED) for each in objects])

    def write_label_files(self, folder: Path, splits: list[str], images: Iterable[WrittenImage]) -> list[str]:
        """Image and annotation ids count from 1 within each file."""
        (folder / "annotations").mkdir(exist_ok=True)
        streams = {split: _SplitFile(folder / "annotations" / f"{split}.json") for split in splits}
        for image in images:
            streams[image.split].add(image)
        for stream in streams.values():
            stream.close(self.dataset)
        return [f"annotations/{split}.json" for split in streams]

    def losses(self) -> list[str]:
        return self.contents.lost(classes="images have image-level classes", label_maps="label maps")


def describe_objects(objects: Objects, size: Size, dataset: Dataset) -> list[dict[str, Any]]:
    """One picture's annotations, all but the ids."""
    if len(objects) == 0:
        return []
    categories = dataset.extra.get("coco", {}).get("categories")
    boxes = np.concatenate([objects.boxes[:, :2], objects.boxes[:, 2:] - objects.boxes[:, :2]], 1)
    areas = _short(boxes[:, 2] * boxes[:, 3])
    shapes = _described_polygons(objects)
    keypoints = _described_keypoints(objects)
    holed = set(objects.outlines.owners[objects.outlines.holes].tolist())
    polygons = objects.polygons if holed else ()
    crowd, classes = objects.crowd.tolist(), objects.classes.tolist()
    own = places_of_points(categories, dataset.skeleton) if categories and _differ(categories) else None
    found = []
    for place, box in enumerate(_short(boxes)):
        annotation = _free(objects.attributes[place], OBJECT_FIELDS)
        annotation["category_id"] = categories[classes[place]]["id"] if categories else classes[place] + 1
        annotation["bbox"] = box
        annotation["area"] = areas[place]
        annotation["iscrowd"] = int(crowd[place])
        mask = objects.masks[place]
        if mask is not None:
            annotation["segmentation"] = {"size": [size.height, size.width], "counts": encode(mask.pixels, mask.left, mask.top, size)}
            annotation["area"] = int(np.count_nonzero(mask.pixels))
        elif place in holed:
            # The form's polygons know no holes; a run-length mask does.
            stamp = mask_from_polygon(polygons[place] or ())
            if stamp is not None:
                stamp = stamp.within(size)
            if stamp is not None:
                annotation["segmentation"] = {"size": [size.height, size.width], "counts": encode(stamp.pixels, stamp.left, stamp.top, size)}
                annotation["area"] = int(np.count_nonzero(stamp.pixels))
        elif place in shapes:
            annotation["segmentation"], annotation["area"] = shapes[place]
        corners = objects.oriented.of_object(place) if len(objects.oriented.owners) else None
        if corners is not None:
            annotation[ORIENTED] = _short(corners.ravel())
        if keypoints:
            points = keypoints[place] if own is None else _of_class(keypoints[place], own[classes[place]])
            annotation["keypoints"], annotation["num_keypoints"] = points
        found.append(annotation)
    return found


def _free(fields: dict[str, Any], taken: set[str]) -> dict[str, Any]:
    """A source's own fields; what this form itself calls so is named `source_…`."""
    if taken.isdisjoint(fields):
        return dict(fields)
    return {f"source_{name}" if name in taken else name: value for name, value in fields.items()}


def _described_polygons(objects: Objects) -> dict[int, tuple[list[list[float]], float]]:
    """Flat outlines and area of every object with a polygon, all worked out at once."""
    points, starts, owners, _ = objects.outlines
    if len(owners) == 0:
        return {}
    flat = _short(points.ravel())
    areas = ring_areas(points, starts[:-1]).tolist()
    ends = starts.tolist()
    unions = _union_areas(points, starts, owners)
    found: dict[int, tuple[list[list[float]], float]] = {}
    for ring, (place, area) in enumerate(zip(owners.tolist(), areas, strict=True)):
        outlines, total = found.get(place, ([], 0.0))
        found[place] = ([*outlines, flat[2 * ends[ring] : 2 * ends[ring + 1]]], round(total + area, 4))
    return {**found, **{place: (found[place][0], area) for place, area in unions.items()}}


def _union_areas(points: NDArray[np.float64], starts: NDArray[np.int64], owners: NDArray[np.int64]) -> dict[int, float]:
    """The area that is covered, for objects whose rings cross themselves or one another: there the rings' own areas don't add up."""
    import shapely

    rings = shapely.polygons(shapely.linearrings(points, indices=np.repeat(np.arange(len(owners)), np.diff(starts))))
    odd = set(owners[~shapely.is_valid(rings)].tolist()) | set(owners[1:][owners[1:] == owners[:-1]].tolist())
    found = {}
    for place in odd:
        own = shapely.make_valid(rings[owners == place], method="structure")
        covered, summed = float(shapely.area(shapely.union_all(own))), float(ring_areas(points, starts[:-1])[owners == place].sum())
        if abs(covered - summed) > 1e-6 * max(covered, summed):
            found[place] = round(covered, 4)
    return found


def _described_keypoints(objects: Objects) -> list[tuple[list[float], int]]:
    points = objects.keypoints
    if points.size == 0:
        return []
    written = np.where(points[:, :, 2:] > 0, points - [0.5, 0.5, 0.0], 0.0)
    return list(zip(_short(written.reshape(len(points), -1)), np.count_nonzero(points[:, :, 2] > 0, axis=1).tolist(), strict=True))


def _differ(categories: list[dict[str, Any]]) -> bool:
    """Whether categories have different keypoints."""
    return len({tuple(point_names(item)) for item in categories}) > 1


def _of_class(keypoints: tuple[list[float], int], places: list[int]) -> tuple[list[float], int]:
    """Of all keypoints those that a class has."""
    numbers = [value for place in places for value in keypoints[0][3 * place : 3 * place + 3]]
    return numbers, sum(visibility > 0 for visibility in numbers[2::3])


def _short(values: NDArray[np.float64]) -> Any:
    """Plain numbers rounded to the precision that is written."""
    return np.round(values, 4).tolist()


class _SplitFile:
    """One annotation file under way: images go straight to it, annotations wait in a second file."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.later = path.with_suffix(".later")
        self.images: BinaryIO = path.open("wb")
        self.objects: BinaryIO = self.later.open("wb")
        self.images.write(b'{"images":[')
        self.image = self.object = 0

    def add(self, image: WrittenImage) -> None:
        self.image += 1
        self.images.write(b'%s\n{"id":%d,' % (b"," if self.image > 1 else b"", self.image) + image.image[1:])
        for label in image.labels:
            self.object += 1
            self.objects.write(b'%s\n{"id":%d,"image_id":%d,' % (b"," if self.object > 1 else b"", self.object, self.image) + label[1:])

    def close(self, dataset: Dataset) -> None:
        self.objects.close()
        self.images.write(b'],\n"annotations":[')
        with self.later.open("rb") as objects:
            while block := objects.read(1 << 20):
                self.images.write(block)
        self.later.unlink()
        kept = dataset.extra.get("coco", {})
        head = {"categories": kept.get("categories") or _categories(dataset), **kept.get("head", {})}
        # Keys in order: a dataset that went through a database may have them in another.
        self.images.write(b"],\n" + orjson.dumps(head, option=orjson.OPT_SORT_KEYS)[1:] + b"\n")
        self.images.close()


def _categories(dataset: Dataset) -> list[dict[str, Any]]:
    points = {"keypoints": list(dataset.skeleton.names), "skeleton": [[a + 1, b + 1] for a, b in dataset.skeleton.edges]}
    return [{"id": place + 1, "name": name, **(points if dataset.skeleton.names else {})} for place, name in enumerate(dataset.classes)]
