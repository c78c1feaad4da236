"""What the database keeps of an image, derived from what the core found.

No Django here: processes that ingest images beside the worker load this alone.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from varlen.datasets.ingest import IngestedImage
from varlen.model.objects import Objects
from varlen.shapes.objects_json import objects_to_json

from varlen_server.encoded_json import EncodedJSON, encoded, storable


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
