"""What a dataset has that a format can't hold, counted by kind; and the yes that losing all labels of a kind needs."""

from __future__ import annotations

from collections.abc import Collection
from typing import NotRequired, TypedDict

from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import WRITERS, title_of
from varlen.datasets.formats.base import LabelCounts, Writer
from varlen.errors import EditionError

#: The kinds of labels, in the order they are told.
KINDS = ("boxes", "image_classes", "masks", "polygons", "keypoints", "oriented_boxes", "label_maps", "attributes", "crowd")
#: Kinds that are kept as another: an outline as pixels, pixels as an outline.
_KEPT_AS = {"masks": ("polygons",), "polygons": ("masks",)}
_COUNTED_IN_IMAGES = ("image_classes", "label_maps")
_WORDS = {
    "boxes": "boxes", "image_classes": "image classes", "masks": "masks", "polygons": "outlines", "keypoints": "keypoints",
    "oriented_boxes": "oriented boxes", "label_maps": "label maps", "attributes": "attributes", "crowd": "marks of regions of many",
}  # fmt: skip


class Loss(TypedDict):
    """All labels of one kind, and how many images or objects have it."""

    kind: str
    images: NotRequired[int]
    objects: NotRequired[int]


class LossRefused(EditionError):
    """A format would lose all labels of a kind, and nobody said yes to that; `lost` says which."""

    def __init__(self, message: str, lost: list[Loss]) -> None:
        self.lost = lost
        super().__init__(message)


def kinds_of(counts: LabelCounts, writer: type[Writer] | None = None) -> dict[str, int]:
    """How many objects or images have each kind of label; of attributes those that `writer` does not keep, where it is given."""
    kept = writer.fields if writer is not None and "attributes" in writer.holds else frozenset[str]()
    fields = [count for name, count in counts.fields.items() if kept is not None and name not in kept]
    found = (counts.boxes, counts.classes, counts.masks, counts.outlines, counts.pointed, counts.oriented, counts.label_maps, max(fields, default=0),
             counts.crowd)  # fmt: skip
    return {kind: count for kind, count in zip(KINDS, found, strict=True) if count}


def losses_of(dataset: Dataset, form: str, counts: LabelCounts | None = None) -> list[Loss]:
    """The kinds of which the format keeps nothing."""
    writer = WRITERS[form]
    found: list[Loss] = []
    for kind, count in kinds_of(counts or LabelCounts(dataset), writer).items():
        if not _keeps(writer, kind):
            found.append({"kind": kind, "images": count} if kind in _COUNTED_IN_IMAGES else {"kind": kind, "objects": count})
    return found


def in_words(loss: Loss) -> str:
    """A loss for people."""
    count, what = (loss["images"], "images") if "images" in loss else (loss["objects"], "objects")
    return f"{_WORDS[loss['kind']]} ({loss['kind']}) of {count} {what if count != 1 else what[:-1]}"


def accepted_kinds(given: Collection[str]) -> frozenset[str]:
    """The kinds whose loss is accepted, also as one text with commas; "all" stands for every one. Raises `EditionError` for other words."""
    given = [word.strip() for word in given.split(",") if word.strip()] if isinstance(given, str) else given
    for kind in given:
        if kind not in (*KINDS, "all"):
            raise EditionError(f"accept-loss: there is no kind {kind!r}; known are {', '.join(KINDS)} and all")
    return frozenset(KINDS if "all" in given else given)


def check_losses(dataset: Dataset, form: str, accepted: Collection[str]) -> list[Loss]:
    """What will be lost, all of it accepted. Raises `LossRefused` where it is not."""
    lost = losses_of(dataset, form)
    said = accepted_kinds(accepted)
    refused = [loss for loss in lost if loss["kind"] not in said]
    if refused:
        names = ",".join(loss["kind"] for loss in refused)
        held = [name for name, writer in WRITERS.items() if all(_keeps(writer, loss["kind"]) for loss in refused)]
        instead = f", or choose a format that holds them: {', '.join(held[:6])}" if held else ""
        what = " and ".join(map(in_words, refused))
        raise LossRefused(f"{title_of(form)} can't hold {what}; to go on without, accept the loss: --accept-loss {names}{instead}", lost)
    return lost


def _keeps(writer: type[Writer], kind: str) -> bool:
    """Whether a writer keeps labels of a kind, as they are or as another; attributes only where it keeps every one."""
    held = writer.holds if writer.fields is None else writer.holds - {"attributes"}
    return not held.isdisjoint((kind, *_KEPT_AS.get(kind, ())))
