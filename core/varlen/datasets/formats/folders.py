"""Class folders: a folder for each class, in a folder for each split or, where splits are drawn, at the top.

    train/copper hook/a.jpg   validation/copper hook/b.jpg        or        copper hook/a.jpg

The folder's name is the image's one class; a folder within another is a class "outer/inner". Where the files
name no split, a tenth of each class is drawn for validation and another for test. Written is the first form; an image with several
classes (a mosaic) goes to the one that most of it stands for.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from varlen.datasets.entry import Entry
from varlen.datasets.formats.base import EncodedLabels, ImageLabels, ListedImage, Reading, Writer, no_objects, size_of
from varlen.datasets.formats.tree import PLAIN_FOLDERS, Doubt, Signs, Tree
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.sources import SourceFiles
from varlen.datasets.splits import SPLIT_WORDS, default_splits
from varlen.errors import DatasetError, EditionError, ReadProblems

NAME = "class-folders"
#: How labels are read, for people.
CONVENTION = "each image has the class of its folder"
#: Names of folders that are seldom classes.
_NO_CLASS = re.compile(r"(cam(era)?s?|images?|img|pictures?|frames?|shots?|day|night|batch|part)[-_ ]?\d*|cam(era)?[-_ ]?\w+", re.IGNORECASE)
_SPLIT_FOLDERS = {"validation": "val"}


def signs(tree: Tree) -> Signs:
    """Whether pictures lie in folders that can be classes."""
    classes = class_folders(tree)
    missing = "a folder for each class with its pictures, in folders named train, val or test or without them"
    if not classes or all(name.lower() in PLAIN_FOLDERS for name in set(classes.values())):
        return Signs(0.0, [], missing)
    bare = [path for path in tree.pictures if path not in classes]
    return Signs(0.5 if not bare else 0.3, [f"{name}/" for name in sorted(set(classes.values()))[:5]], missing, bare[:3])


def class_folders(tree: Tree) -> dict[str, str]:
    """The class of every picture that lies in a class's folder; a folder within another is called "outer/inner"."""
    splits = split_folders(tree.pictures)
    found = {}
    for path in tree.pictures:
        name = "/".join(part for place, part in enumerate(path.split("/")[:-1]) if (place, part) not in splits)
        if name:
            found[path] = name
    return found


def split_folders(paths: list[str]) -> set[tuple[int, str]]:
    """The folders, by depth and name, that stand for splits: all of one depth must, or "train" is a class among others."""
    by_depth: dict[int, set[str]] = {}
    for path in paths:
        for place, part in enumerate(path.split("/")[:-1]):
            by_depth.setdefault(place, set()).add(part)
    return {(place, name) for place, names in by_depth.items() if all(name.lower() in SPLIT_WORDS for name in names) for name in names}


def read(tree: Tree, problems: ReadProblems, options: ImportOptions) -> Reading:
    """The tree of pictures. Raises `DatasetError` naming a picture in no class's folder."""
    files = tree.files
    classes, splits = class_folders(tree), split_folders(tree.pictures)
    groups: dict[str, list[str]] = {}
    for path in tree.pictures:
        if path not in classes:
            problems.note("bad-label", f"{path}: expected split/class/picture or class/picture")
            continue
        groups.setdefault(classes[path], []).append(path)
    if not groups:
        raise DatasetError(f"{files.label}: no pictures in class folders")
    named: dict[str, str] = {}
    for path in classes:
        word = next((part for place, part in enumerate(path.split("/")[:-1]) if (place, part) in splits), "")
        if word:
            named[path] = SPLIT_WORDS[word.lower()]
    drawn = {} if named else default_splits(groups)

    listed = (ListedImage(path, (named.get(path) or drawn.get(path, "train"), name)) for name, members in groups.items() for path in members)
    return Reading(tuple(sorted(groups)), listed, _Read(files), sum(map(len, groups.values())), problems, drawn=bool(drawn), pictures=classes.keys,
                   doubt=_doubt(sorted(groups), bool(named)))  # fmt: skip


def _doubt(classes: list[str], in_splits: bool) -> Doubt | None:
    """Why the folders may be no classes: one that holds every picture, names of splits, of cameras or plain folders. in_splits: below splits."""
    answers = {NAME: "they are classes", "pictures": "they are pictures without labels"}
    last = [name.rsplit("/", 1)[-1] for name in classes]
    splits = [name for name, word in zip(classes, last, strict=True) if word.lower() in SPLIT_WORDS]
    if len(classes) == 1:
        return Doubt(f"every picture would be of one class, {classes[0]!r}", answers)
    if not in_splits and 2 * len(splits) >= len(classes):  # one among many is a class of its own, as trains are
        return Doubt(f"a class would be called {splits[0]!r}, as a split is", answers)
    if all(_NO_CLASS.fullmatch(word) or word.lower() in PLAIN_FOLDERS for word in last):
        return Doubt(f"its classes would be called {', '.join(map(repr, classes[:3]))}, as cameras or folders of pictures are", answers)
    return None


@dataclass(frozen=True, slots=True)
class _Read:
    files: SourceFiles

    def __call__(self, image: ListedImage, problems: ReadProblems) -> Entry:
        split, name = image.body
        return Entry(image.key, split, size_of(self.files, image.key), no_objects(image.key), classes=(name,))


class FoldersWriter(Writer):
    """Writes `split/class/picture`."""

    spreads = False
    name = NAME
    title = "class folders"
    layout = "A folder per split, in it a folder per class with its pictures."
    holds = frozenset(("image_classes",))

    def picture_path(self, split: str, name: str, suffix: str, labels: ImageLabels) -> str:
        if not labels.classes:
            raise EditionError(f"{name}: has no image-level class, so there is no folder for it; class folders hold nothing else")
        chosen = max(sorted(labels.classes), key=lambda each: labels.classes[each])
        safe = "/".join(part for part in re.sub(r"[\\\x00-\x1f]", "_", chosen).split("/") if part not in ("", ".", "..")) or "_"
        return f"{_SPLIT_FOLDERS.get(split, split)}/{safe}/{name}{suffix}"

    def encode_labels(self, file: str, labels: ImageLabels) -> EncodedLabels:
        return EncodedLabels()

    def losses(self) -> list[str]:
        return self.contents.lost(boxes="objects", many_classes="images have several classes, of which one is kept", label_maps="label maps")
