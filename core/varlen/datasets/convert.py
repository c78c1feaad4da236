"""Reading one format and writing another, no augmentation: pictures are copied as they are."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Collection, Iterator
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from varlen.atomic_files import claim
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import WRITERS, default_format
from varlen.datasets.formats.base import FileNames, ImageLabels, Writer
from varlen.datasets.image_files import SUFFIX, is_upright
from varlen.datasets.losses import Loss, check_losses
from varlen.errors import EditionError

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
    part = claim(out)
    shutil.rmtree(part, ignore_errors=True)
    part.mkdir()
    writer = WRITERS[form](dataset)
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
        file = writer.picture_path(entry.split, names[key], suffix, labels)
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
