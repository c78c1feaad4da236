"""Class folders: a folder for each class, in a folder for each split or, where splits are drawn, at the top.

    train/copper hook/a.jpg   validation/copper hook/b.jpg        or        copper hook/a.jpg

The folder's name is the image's one class. Where the files name no split, a tenth of each class
is drawn for validation and another for test. Written is the first form; an image with several
classes (a mosaic) goes to the one that most of it stands for.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import PurePosixPath

from varlen.datasets.entry import Entry
from varlen.datasets.formats.base import EncodedLabels, ImageLabels, ListedImage, Reading, Writer, no_objects, pictures, size_of
from varlen.datasets.sources import SourceFiles
from varlen.datasets.splits import SPLIT_WORDS, default_splits, split_from_path
from varlen.errors import DatasetError, EditionError, ReadProblems

NAME = "class-folders"
#: How labels are read, for people.
CONVENTION = "each image has the class of its folder"
_SPLIT_FOLDERS = {"validation": "val"}


def recognise(files: SourceFiles) -> bool:
    """Whether every picture lies in a folder, at most one of them named like a split, and nothing labels it in another way."""
    paths = pictures(files)
    return (
        bool(paths)
        and all(_class_of(path) for path in paths)
        and not any({"images", "masks", "labels"} & set(PurePosixPath(path).parts) for path in paths)
    )


def _class_of(path: str) -> str:
    """The folder that is not a split; "" where there is none or there are several."""
    folders = [part for part in PurePosixPath(path).parts[:-1] if part.lower() not in SPLIT_WORDS]
    return folders[0] if len(folders) == 1 else ""


def read(files: SourceFiles, problems: ReadProblems) -> Reading:
    """The tree of pictures. Raises `DatasetError` naming a picture in no class's folder."""
    groups: dict[str, list[str]] = {}
    for path in pictures(files):
        name = _class_of(path)
        if not name:
            problems.note("bad-label", f"{path}: expected split/class/picture or class/picture")
            continue
        groups.setdefault(name, []).append(path)
    if not groups:
        raise DatasetError(f"{files.label}: no pictures in class folders")
    named = {path: split for members in groups.values() for path in members if (split := split_from_path(path))}
    drawn = {} if named else default_splits(groups)

    listed = (ListedImage(path, (named.get(path) or drawn.get(path, "train"), name)) for name, members in groups.items() for path in members)
    return Reading(tuple(sorted(groups)), listed, _Read(files), sum(map(len, groups.values())), problems)


@dataclass(frozen=True, slots=True)
class _Read:
    files: SourceFiles

    def __call__(self, image: ListedImage, problems: ReadProblems) -> Entry:
        split, name = image.body
        return Entry(image.key, split, size_of(self.files, image.key), no_objects(image.key), classes=(name,))


class FoldersWriter(Writer):
    """Writes `split/class/picture`."""

    name = NAME
    title = "class folders"
    layout = "A folder per split, in it a folder per class with its pictures."

    def picture_path(self, split: str, name: str, suffix: str, labels: ImageLabels) -> str:
        if not labels.classes:
            raise EditionError(f"{name}: has no image-level class, so there is no folder for it; class folders hold nothing else")
        chosen = max(sorted(labels.classes), key=lambda each: labels.classes[each])
        safe = re.sub(r"[/\\\x00]", "_", chosen)
        return f"{_SPLIT_FOLDERS.get(split, split)}/{safe}/{name}{suffix}"

    def encode_labels(self, file: str, labels: ImageLabels) -> EncodedLabels:
        return EncodedLabels()

    def losses(self) -> list[str]:
        return self.contents.lost(boxes="objects", many_classes="images have several classes, of which one is kept", label_maps="label maps")
