"""Changes to a dataset that leave its files as they are, and can be taken back.

An edit names an image by its key and an object by its id. Edits are applied in order; one that
names what is no longer there does nothing.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Literal, get_args

import numpy as np

from varlen.datasets.entry import Entry
from varlen.datasets.splits import SPLITS
from varlen.errors import DatasetError
from varlen.model.objects import Objects, Outlines
from varlen.shapes.polygons import clipped

EditKind = Literal["leave-out", "clip-box", "drop-object", "move"]


@dataclass(frozen=True, slots=True)
class Edit:
    """One change.

    leave-out: the image is no longer part of the dataset; clip-box: an object is cut to its
    picture; drop-object: an object is removed; move: the image goes to the split `value`.
    """

    kind: EditKind
    image: str
    object: str = ""
    value: str = ""

    def __post_init__(self) -> None:
        if self.kind not in get_args(EditKind):
            raise DatasetError(f"edit: there is no {self.kind!r}; known are {', '.join(get_args(EditKind))}")
        if self.kind == "move" and self.value not in SPLITS:
            raise DatasetError(f"edit: {self.value!r} is not a split; known are {', '.join(SPLITS)}")


def apply_edits(entry: Entry, edits: Iterable[Edit]) -> Entry | None:
    """An image after edits; None when it is left out."""
    for edit in edits:
        match edit.kind:
            case "leave-out":
                return None
            case "move":
                entry = replace(entry, split=edit.value)
            case "drop-object":
                kept = [place for place, name in enumerate(entry.objects.ids) if name != edit.object]
                entry = replace(entry, objects=entry.objects.take(kept))
            case "clip-box":
                entry = replace(entry, objects=_clipped(entry, edit.object))
    return entry


def _clipped(entry: Entry, name: str) -> Objects:
    """The objects, the one called `name` cut to the picture; nothing of it may be left."""
    objects = entry.objects
    if name not in objects.ids:
        return objects
    place = objects.ids.index(name)
    x0, y0, x1, y1 = entry.size.rect
    boxes = objects.boxes.copy()
    boxes[place] = np.clip(boxes[place], [x0, y0, x0, y0], [x1, y1, x1, y1])
    if boxes[place, 0] >= boxes[place, 2] or boxes[place, 1] >= boxes[place, 3]:
        return objects.take([other for other in range(len(objects)) if other != place])
    polygons, masks = list(objects.polygons), list(objects.masks)
    outline, mask = polygons[place], masks[place]
    if outline:
        polygons[place] = clipped([outline], entry.size.rect)[0] or None
    if mask is not None:
        masks[place] = mask.within(entry.size)
    return objects.replace(boxes=boxes, outlines=Outlines.of(polygons), masks=tuple(masks))
