"""A dataset's images and objects as columns of numbers: what the wall is narrowed by, and what its plots count.

Read from the database once per snapshot and kept by the process; a hundred thousand images take
some twenty megabytes and every filter a few milliseconds.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from rest_framework.exceptions import ValidationError
from varlen.datasets.ingest import IngestedImage
from varlen.datasets.splits import in_order
from varlen.model.objects import Objects
from varlen.shapes.objects_json import objects_to_json

from varlen_server.datasets.models import Dataset
from varlen_server.encoded_json import EncodedJSON, encoded, storable

#: Boxes are counted on a grid of octaves, from 1 px up.
OCTAVES = 13


@dataclass(frozen=True)
class Columns:
    """All images, by key, and all their objects.

    things: (N, 3 + K) float32 class, width, height and visibility of keypoints; owners: (N,) which image
    an object is in; of_image: the image-level classes of each image; kinds: what sort of file it is.
    """

    classes: tuple[str, ...]
    keypoints: tuple[str, ...]
    rows: NDArray[np.int64]
    keys: list[str]
    splits: NDArray[np.str_]
    sizes: NDArray[np.int64]
    things: NDArray[np.float32]
    owners: NDArray[np.int64]
    of_image: list[tuple[str, ...]]
    kinds: NDArray[np.str_]

    def chosen(self, asked: Mapping[str, str], findings: list[dict[str, Any]]) -> NDArray[np.int64]:
        """The rows of the images that meet everything asked for, in order."""
        fits = np.ones(len(self.rows), np.bool_)
        if split := asked.get("split"):
            fits &= self.splits == split
        if name := asked.get("name", "").lower():
            fits &= np.array([name in key.lower() for key in self.keys], np.bool_)
        if kind := asked.get("finding"):
            places: list[tuple[str, str]] = next((each["places"] for each in findings if each["kind"] == kind), [])
            fits &= np.isin(self.keys, [image for image, _ in places]) if places else False
        if size := asked.get("size"):
            fits &= np.array([f"{width}×{height}" == size for width, height in self.sizes.tolist()], np.bool_)
        if kind := asked.get("kind"):
            fits &= self.kinds == kind
        if numbers := _span(asked, "objects"):
            counts = np.bincount(self.owners, minlength=len(self.rows))
            fits &= (counts >= numbers[0]) & (counts <= numbers[1])
        self._narrow_by_objects(asked, fits)
        found: NDArray[np.int64] = self.rows[fits]
        return found

    def _narrow_by_objects(self, asked: Mapping[str, str], fits: NDArray[np.bool_]) -> None:
        """One object has to meet all that is asked of objects."""
        meets = np.ones(len(self.things), np.bool_)
        if wanted := asked.get("class"):
            of_image = np.array([wanted in names for names in self.of_image], np.bool_)
            if of_image.any():
                fits &= of_image
            else:
                meets &= self.things[:, 0] == (self.classes.index(wanted) if wanted in self.classes else -1)
        for name, values in (("side", self.sides), ("width", self.things[:, 1]), ("height", self.things[:, 2]), ("aspect", self.aspects)):
            if span := _span(asked, name):
                meets &= (values >= span[0]) & (values < span[1])
        if point := asked.get("keypoint"):
            name, _, state = point.rpartition(":")
            if name not in self.keypoints or state not in VISIBILITY:
                raise ValidationError("keypoint must be a keypoint's name, a colon, and visible, hidden or absent.")
            meets &= self.things[:, 3 + self.keypoints.index(name)] == VISIBILITY.index(state)
        if not meets.all():
            some = np.zeros(len(self.rows), np.bool_)
            some[self.owners[meets]] = True
            fits &= some

    @property
    def sides(self) -> NDArray[np.float32]:
        """Square roots of the areas of boxes, px."""
        found: NDArray[np.float32] = np.sqrt(np.maximum(self.things[:, 1] * self.things[:, 2], 0))
        return found

    @property
    def aspects(self) -> NDArray[np.float32]:
        """Width over height of boxes; 0 where there is no area."""
        wide, high = self.things[:, 1], self.things[:, 2]
        found: NDArray[np.float32] = np.where(high > 0, wide / np.where(high > 0, high, 1), 0).astype(np.float32)
        return found


VISIBILITY = ("absent", "hidden", "visible")


def columns_of(dataset: Dataset) -> Columns:
    """The columns of a dataset as it stands."""
    return _columns(dataset.pk, dataset.digest)


@lru_cache(maxsize=4)
def _columns(dataset_id: int, digest: str) -> Columns:
    dataset = Dataset.objects.get(pk=dataset_id)
    rows = dataset.images.filter(left_out=False).order_by("key")
    found = list(rows.values_list("pk", "key", "split", "width", "height", "measures", "classes", "facts"))
    width = 3 + len(dataset.keypoints)
    measures = [np.frombuffer(row[5], "<f4").reshape(-1, width) for row in found]
    return Columns(
        tuple(dataset.classes), tuple(dataset.keypoints), np.array([row[0] for row in found], np.int64), [row[1] for row in found],
        np.array([row[2] for row in found], np.str_), np.array([row[3:5] for row in found], np.int64).reshape(-1, 2),
        np.concatenate([np.zeros((0, width), np.float32), *measures]), np.repeat(np.arange(len(found)), [len(each) for each in measures]),
        [tuple(row[6]) for row in found], np.array([_kind(row[7]) for row in found], np.str_),
    )  # fmt: skip


def _kind(facts: dict[str, Any]) -> str:
    if not facts:
        return "unknown"
    mode = "16-bit gray" if facts["mode"].startswith("I") else {"L": "gray", "P": "palette", "1": "black and white"}.get(facts["mode"], facts["mode"])
    return f"{facts['format']}, {mode}" + (", turned by EXIF" if facts["orientation"] != 1 else "")


def overview(columns: Columns) -> dict[str, Any]:
    """What the plots show, as plain values."""
    things, counts = columns.things, np.bincount(columns.owners, minlength=len(columns.rows))
    return {
        "classes": _class_counts(columns),
        "sizes": [{"name": f"{width}×{height}", "count": int(count)} for (width, height), count in _counted(columns.sizes)],
        "kinds": [{"name": str(kind), "count": int(count)} for kind, count in zip(*np.unique(columns.kinds, return_counts=True), strict=True)],
        "objects": [{"low": number, "high": number, "count": int(count)} for number, count in enumerate(np.bincount(counts))],
        "sides": _octaves(columns.sides, 2),
        "aspects": _octaves(columns.aspects, 2, low=-8, high=8),
        "boxes": _grid(things[:, 1], things[:, 2]),
        "visibility": [
            {"name": name, **{state: int((things[:, 3 + place] == value).sum()) for value, state in enumerate(VISIBILITY)}}
            for place, name in enumerate(columns.keypoints)
        ],
    }


def _class_counts(columns: Columns) -> list[dict[str, Any]]:
    splits = in_order(columns.splits.tolist())
    found = {name: dict.fromkeys(splits, 0) for name in columns.classes}
    of_things = columns.splits[columns.owners] if len(columns.owners) else np.zeros(0, np.str_)
    for split in splits:
        counts = np.bincount(columns.things[of_things == split, 0].astype(np.int64), minlength=len(columns.classes))
        for place, name in enumerate(columns.classes):
            found[name][split] = int(counts[place])
    for names, split in zip(columns.of_image, columns.splits.tolist(), strict=True):
        for name in names:
            found[name][split] += 1
    return [
        {"name": name, "splits": {split: count for split, count in each.items() if count}, "total": sum(each.values())}
        for name, each in found.items()
    ]


def _counted(sizes: NDArray[np.int64]) -> list[tuple[tuple[int, int], int]]:
    values, counts = np.unique(sizes, axis=0, return_counts=True)
    order = np.argsort(-counts, kind="stable")
    return [((int(values[n][0]), int(values[n][1])), int(counts[n])) for n in order[:12]]


def _octaves(values: NDArray[np.float32], parts: int, low: int = 0, high: int = 2 * OCTAVES) -> list[dict[str, float]]:
    """Counts in steps of 1/`parts` of an octave, from the first that has any to the last."""
    places = np.floor(parts * np.log2(values[values > 0])).clip(low, high).astype(int)
    if places.size == 0:
        return []
    counts = np.bincount(places - places.min())
    return [
        {"low": round(2.0 ** ((place + places.min()) / parts), 3), "high": round(2.0 ** ((place + places.min() + 1) / parts), 3), "count": int(count)}
        for place, count in enumerate(counts)
    ]


def _grid(wide: NDArray[np.float32], high: NDArray[np.float32]) -> dict[str, Any]:
    """How many boxes there are of each width and height, in half octaves: counts[row of heights][column of widths]."""
    real = (wide > 0) & (high > 0)
    columns, rows = (np.floor(2 * np.log2(values[real])).clip(0, 2 * OCTAVES).astype(int) for values in (wide, high))
    if columns.size == 0:
        return {"left": 0, "bottom": 0, "counts": []}
    left, bottom = int(columns.min()), int(rows.min())
    counts = np.zeros((rows.max() - bottom + 1, columns.max() - left + 1), np.int64)
    np.add.at(counts, (rows - bottom, columns - left), 1)
    return {"left": left, "bottom": bottom, "counts": counts.tolist()}


def _span(asked: Mapping[str, str], name: str) -> tuple[float, float] | None:
    text = asked.get(name)
    if not text:
        return None
    try:
        low, high = (float(part) for part in text.split("-"))
    except ValueError:
        raise ValidationError(f"{name} must be low-high.") from None
    return low, high


class Measures(NamedTuple):
    """What images are looked up by and plotted from: see `models.Image`."""

    object_count: int
    smallest_side: float
    measures: bytes


class Row(NamedTuple):
    """An image's columns; its objects as JSON already, for there may be many."""

    key: str
    split: str
    width: int
    height: int
    sha256: str
    objects_json: EncodedJSON
    content: str
    facts: dict[str, Any]
    measures: bytes
    object_count: int
    smallest_side: float
    extra: dict[str, Any]
    group: str
    classes: list[str]
    label_map: str
    label_map_sha256: str


def measures_of(objects: Objects) -> Measures:
    """Counts and sizes of an image's objects."""
    if len(objects) == 0:
        return Measures(0, 0.0, b"")
    sides = objects.boxes[:, 2:] - objects.boxes[:, :2]
    found = np.column_stack([objects.classes, sides, objects.keypoints[:, :, 2]]).astype("<f4").tobytes()
    return Measures(len(objects), float(sides.min()), found)


class MakesRows:
    """Makes rows of ingested images; can be sent to another process."""

    def __init__(self, classes: tuple[str, ...]) -> None:
        self.classes = classes

    def __call__(self, image: IngestedImage) -> Row:
        entry, found = image.entry, measures_of(image.entry.objects)
        objects = objects_to_json(entry.objects, self.classes, arrays=True)
        return Row(
            entry.key, entry.split, entry.size.width, entry.size.height, image.sha256, encoded(objects), image.digest, image.facts.to_json(),
            found.measures, found.object_count, found.smallest_side, storable(entry.extra), entry.group, list(entry.classes),
            entry.label_map, image.map_sha256,
        )  # fmt: skip
