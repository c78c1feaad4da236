"""Plain pictures: one, or a folder of them, without labels.

Folders named train, val or test say the split; without these every picture is for training. Written is
`images/<split>/picture`.
"""

from __future__ import annotations

from dataclasses import dataclass

from varlen.datasets.entry import Entry
from varlen.datasets.formats.base import EncodedLabels, ImageLabels, ListedImage, Reading, Writer, no_objects, size_of
from varlen.datasets.formats.tree import Signs, Tree
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.sources import SourceFiles
from varlen.datasets.splits import split_from_path
from varlen.errors import DatasetError, ReadProblems

NAME = "pictures"
#: How labels are read, for people.
CONVENTION = "pictures without labels"
#: Files that look like labels: where there are any, all else is tried before pictures are taken to have none.
_LABELS = (".xml", ".json", ".jsonl", ".ndjson", ".csv", ".tsv", ".txt", ".yaml", ".yml", ".npy", ".npz", ".mat")
_TALK = ("readme", "license", "licence", "notes", "changelog", "requirements")


def signs(tree: Tree) -> Signs:
    """Whether there are pictures and nothing that could label them."""
    others = [path for path in tree.ending(*_LABELS) if not path.rsplit("/", 1)[-1].lower().startswith(_TALK)]
    return Signs((0.05 if others else 0.2) if tree.pictures else 0.0, tree.pictures[:3], "pictures, and no files that look like labels", others[:3])


def read(tree: Tree, problems: ReadProblems, options: ImportOptions) -> Reading:
    """All pictures. Raises `DatasetError` when there are none."""
    if not tree.pictures:
        raise DatasetError(f"{tree.files.label}: no pictures")
    listed = (ListedImage(path, split_from_path(path) or "train") for path in tree.pictures)
    return Reading((), listed, _Read(tree.files), len(tree.pictures), problems, pictures=lambda: tree.pictures)


@dataclass(frozen=True, slots=True)
class _Read:
    files: SourceFiles

    def __call__(self, image: ListedImage, problems: ReadProblems) -> Entry:
        return Entry(image.key, image.body, size_of(self.files, image.key), no_objects(image.key))


class PicturesWriter(Writer):
    """Writes pictures alone."""

    #: A folder of pictures alone would be read as a class.
    spreads = False
    name = NAME
    title = "plain pictures"
    layout = "Pictures in `images/<split>/`, nothing else."
    holds = frozenset[str]()

    def encode_labels(self, file: str, labels: ImageLabels) -> EncodedLabels:
        return EncodedLabels()
