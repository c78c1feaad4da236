"""Dataset formats, one file each; recognised from the files themselves."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import coco, folders, masks, voc, yolo
from varlen.datasets.formats.arrays import NpzChannelsFirstWriter, NpzWriter, TarWriter
from varlen.datasets.formats.base import Reading, Writer
from varlen.datasets.sources import Folder, SourceFiles, open_files
from varlen.errors import DatasetError, ReadProblems

#: In the order in which they are tried: the surest signs first.
READERS = {module.NAME: module for module in (coco, voc, yolo, masks, folders)}
WRITERS: dict[str, type[Writer]] = {
    cls.name: cls
    for cls in (coco.CocoWriter, voc.VocWriter, yolo.YoloBoxesWriter, yolo.YoloPolygonsWriter, yolo.YoloKeypointsWriter, folders.FoldersWriter,
                masks.MasksWriter, NpzWriter, NpzChannelsFirstWriter, TarWriter)
}  # fmt: skip

#: What a reader that stands for several writers is called.
_FAMILIES = {yolo.NAME: "YOLO"}


class FormatFacts(NamedTuple):
    """A dataset format for people: its word in commands and files, its title, and what can be done with it.

    convention: how labels are read, "" for a format that is only written; layout: where pictures and labels are
    in a written dataset, as Markdown; coded: whether pictures are coded as JPEG, PNG or WebP, or are arrays.
    """

    name: str
    title: str
    reads: bool
    writes: bool
    coded: bool
    convention: str
    layout: str


def catalogue() -> list[FormatFacts]:
    """Every format that is read or written: the one list that screens, commands, importer and READMEs show."""
    names = dict.fromkeys((*READERS, *WRITERS))
    return [
        FormatFacts(name, title_of(name), name in READERS, name in WRITERS, WRITERS[name].coded,
                    READERS[name].CONVENTION if name in READERS else "", WRITERS[name].layout)
        for name in names
    ]  # fmt: skip


def title_of(name: str, reading: bool = False) -> str:
    """What people call a format. reading: as one to be read, where one reader stands for several writers."""
    return _FAMILIES[name] if reading and name in _FAMILIES else WRITERS[name].title


def open_dataset(path: Path | str, form: str | None = None, problems: ReadProblems | None = None) -> tuple[str, SourceFiles, Reading]:
    """Begin to read a dataset from a folder, a zip or an annotation file: its format, its files and the reading.

    form: overrides recognition; problems: collects what can't be read; without it the
    first such thing raises `DatasetError`.
    """
    path = Path(path)
    files = open_files(path)
    only = path.relative_to(files.root).as_posix() if path.is_file() and isinstance(files, Folder) else None
    if form is not None and form not in READERS:
        raise DatasetError(f"there is no dataset format {form!r} to read; known are {', '.join(READERS)}")
    form = form or (coco.NAME if only else recognise_format(files))
    if form is None:
        raise DatasetError(f"{path}: not recognised as a dataset; known are {', '.join(READERS)}")
    problems = problems or ReadProblems()
    return form, files, coco.read(files, problems, only) if form == coco.NAME else READERS[form].read(files, problems)


def read_dataset(path: Path | str, form: str | None = None, problems: ReadProblems | None = None) -> Dataset:
    """A whole dataset (see `open_dataset`), its labels in memory."""
    form, files, reading = open_dataset(path, form, problems)
    dataset = Dataset(files.name, reading.classes, reading.entries, files, reading.skeleton, reading.extra)
    files.__dict__.pop("paths", None)  # the list of files has served
    dataset.map_classes = reading.map_classes
    dataset.origin, dataset.format = str(Path(path).absolute()), form
    return dataset


def recognise_format(files: SourceFiles) -> str | None:
    """The format of a folder or zip; None when it is none of those known."""
    return next((name for name, module in READERS.items() if module.recognise(files)), None)
