"""What the database keeps of an image, told from what the core says of it.

No Django here: processes that bring images in beside the worker load this alone.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import orjson
from varlen.datasets.ingest import IngestedImage
from varlen.model.objects import Objects
from varlen.shapes.objects_json import objects_to_json


class Measures(NamedTuple):
    """What images are looked up by and plotted from: see `models.Image`."""

    object_count: int
    smallest_side: float
    measures: bytes


class Row(NamedTuple):
    """An image's columns, in the types the database takes them in; JSON as text."""

    key: str
    split: str
    width: int
    height: int
    sha256: str
    objects_json: str
    content: str
    facts: str
    measures: bytes
    object_count: int
    smallest_side: float
    extra: str
    group: str
    classes: str
    label_map: str
    label_map_sha256: str
    left_out: bool
    unedited: None


def measures_of(objects: Objects) -> Measures:
    """Counts and sizes of an image's objects."""
    if len(objects) == 0:
        return Measures(0, 0.0, b"")
    sides = objects.boxes[:, 2:] - objects.boxes[:, :2]
    found = np.column_stack([objects.classes, sides, objects.keypoints[:, :, 2]]).astype("<f4").tobytes()
    return Measures(len(objects), float(sides.min()), found)


class MakesRows:
    """Makes rows of images that are brought in; can be sent to another process."""

    def __init__(self, classes: tuple[str, ...]) -> None:
        self.classes = classes

    def __call__(self, image: IngestedImage) -> Row:
        entry, found = image.entry, measures_of(image.entry.objects)
        objects = objects_to_json(entry.objects, self.classes, arrays=True)
        return Row(
            entry.key, entry.split, entry.size.width, entry.size.height, image.sha256, _json(objects), image.digest, _json(image.facts),
            found.measures, found.object_count, found.smallest_side, _json(entry.extra), entry.group, _json(list(entry.classes)),
            entry.label_map, image.map_sha256, left_out=False, unedited=None,
        )  # fmt: skip


def _json(value: Any) -> str:
    return orjson.dumps(value, option=orjson.OPT_SERIALIZE_NUMPY).decode()
