"""A dataset in another format, and what that format can't hold."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Collection, Iterator
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import NotRequired, TypedDict

from varlen.atomic_files import claimed
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import WRITERS, default_format, title_of
from varlen.datasets.formats.base import FileNames, ImageLabels, LabelCounts, Writer, fitting_name, own_boxes
from varlen.datasets.image_files import SUFFIX, is_upright
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
    """A format would lose all labels of a kind that was not accepted; `lost` says which."""

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


def losses_of(dataset: Dataset, form: str, counts: LabelCounts | None = None, every_box: bool = False) -> list[Loss]:
    """The kinds of which the format keeps nothing. every_box: count boxes as version 0.1 did, also those that only bound what is kept."""
    writer = WRITERS[form]
    found: list[Loss] = []
    counts = counts or LabelCounts(dataset)
    for kind, count in kinds_of(counts, writer).items():
        if _keeps(writer, kind):
            continue
        if kind == "boxes" and _keeps(writer, "polygons") and not every_box:
            count = sum(own_boxes(entry.objects) for entry in dataset.entries.values())  # the others are the bounds of what is kept
        if count:
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


#: Picture files that every format takes as they are.
COMMON = (".jpg", ".jpeg", ".png", ".webp")
#: Quality of JPEGs that have to be coded anew, because they lay on their side.
QUALITY = 95


@dataclass(frozen=True, slots=True)
class _Written:
    split: str
    file: str
    image: bytes
    labels: list[bytes]


def convert(
    dataset: Dataset, out: Path, form: str = "", progress: Callable[[], None] = lambda: None, accept_loss: Collection[str] = ()
) -> tuple[list[Loss], list[str]]:
    """Write `dataset` to `out`; returns what the format can't hold: the kinds it loses altogether, and lines of what it holds in part.

    form: "" for the dataset's own; accept_loss: kinds of labels that may be lost altogether. Raises `EditionError` when it
    can't be written, `LossRefused` among them, with nothing left behind.
    """
    form = form or default_format(dataset)
    if form not in WRITERS:
        raise EditionError(f"there is no dataset format {form!r} to write; known are {', '.join(WRITERS)}")
    lost = check_losses(dataset, form, accept_loss)
    writer = WRITERS[form](dataset)
    with claimed(out) as part:
        shutil.rmtree(part, ignore_errors=True)
        part.mkdir()
        try:
            writer.write_label_files(part, dataset.splits(), _pictures(dataset, writer, part, progress))
            if out.exists():
                out.rmdir()
            part.rename(out)
        except OSError as error:
            raise EditionError(f"{error.filename or out}: {error.strerror or error}") from None
        finally:
            shutil.rmtree(part, ignore_errors=True)
    return lost, writer.losses()


def _pictures(dataset: Dataset, writer: Writer, part: Path, progress: Callable[[], None]) -> Iterator[_Written]:
    names = FileNames(dataset)
    for key, entry in dataset.entries.items():
        label_map = dataset.label_map(key) if writer.label_maps else None
        labels = ImageLabels(entry.size, entry.objects, dict.fromkeys(entry.classes, 1.0), label_map, entry.extra)
        data, suffix = _file(dataset, writer, key)
        file = writer.picture_path(entry.split, fitting_name(names[key], "", suffix, key), suffix, labels)
        described = writer.encode_labels(file, labels)
        for path, content in {file: data, **described.files}.items():
            (part / path).parent.mkdir(parents=True, exist_ok=True)
            (part / path).write_bytes(content)
        progress()
        yield _Written(entry.split, file, described.image, described.labels)


def _file(dataset: Dataset, writer: Writer, key: str) -> tuple[bytes, str]:
    """The picture's bytes as they are, or coded anew where the format holds arrays or the picture lies on its side."""
    data, suffix = dataset.source(key), PurePosixPath(key).suffix.lower()
    if writer.suffix_for("jpeg") != SUFFIX["jpeg"]:
        return writer.picture(dataset.pixels(key), "png", QUALITY), writer.suffix_for("png")
    if suffix in COMMON and is_upright(data, key):
        return data, suffix
    kind = "jpeg" if suffix in (".jpg", ".jpeg") else "png"
    return writer.picture(dataset.pixels(key), kind, QUALITY), writer.suffix_for(kind)  # type: ignore[arg-type]
