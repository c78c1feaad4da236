"""The account of a dataset's files: each is a picture, labels, a side file, or unexplained.

What a reader opens while it looks a dataset through, and what it opens later for each image, are its labels. Of the others, those that
could hold labels stop an import: a file that nobody read is the commonest way to lose labels without a word.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Any, BinaryIO

from varlen.datasets.formats.base import Reading
from varlen.datasets.formats.tree import RECORDS, Tree, stem_of
from varlen.datasets.recipes import pattern
from varlen.datasets.sources import READABLE, SourceFiles

#: Files of which some hold labels.
COULD_HOLD = (".txt", ".json", ".jsonl", ".ndjson", ".csv", ".tsv", ".xml", ".yaml", ".yml", ".npy", ".npz", ".mat", ".pkl", ".pickle", ".parquet",
              ".feather", ".arrow", ".h5", ".hdf5", ".tfrecord", ".record", ".xls", ".xlsx", ".ods", ".db", ".sqlite", ".names", ".data",
              ".lst", ".list", ".label", ".labels", ".ann", ".gt", ".geojson", ".shp", ".rle")  # fmt: skip
#: Files that are known and hold no labels, by their names.
_SIDE = re.compile(
    r"^(readme|licen[cs]e|copying|notice|changelog|changes|citation|authors|contributors|requirements|version|terms|about|preview|thumbs)\b"
    r"|\.(md|rst|pdf|html?|css|js|py|sh|ipynb|docx?|log|cache|md5|sha1|sha256|sha512|asc|sig|url|desktop|ini|db-journal|tmp|bak|pyc|cff|bib|toml|lock)$|\.(varlen|reading)\.json$",
    re.IGNORECASE,
)
#: Names that are said of unexplained files.
NAMED = 3
#: Lines of the first of them that are shown, and how long each may be.
LINES, LONGEST_LINE = 3, 100


class Watched:
    """Files that note which of them are opened, while `notes` is set. To another process they go without their notes."""

    def __init__(self, files: SourceFiles) -> None:
        self.files, self.opened, self.notes = files, set[str](), True

    def __reduce__(self) -> tuple[Any, ...]:
        return _same, (self.files,)

    def __getattr__(self, name: str) -> Any:
        return getattr(self.files, name)

    def read(self, path: str) -> bytes:
        """As the files do."""
        if self.notes:
            self.opened.add(path)
        return self.files.read(path)

    def open(self, path: str) -> BinaryIO:
        """As the files do."""
        if self.notes:
            self.opened.add(path)
        return self.peek(path)

    def peek(self, path: str) -> BinaryIO:
        """The same without a note: for a look at the beginning, to tell whether a file is to be read."""
        return self.files.open(path)


def _same(files: SourceFiles) -> SourceFiles:
    return files


@dataclass(frozen=True, slots=True)
class Account:
    """How many files of a dataset are what; the unexplained by their paths. asked: those of them that could hold labels."""

    pictures: int
    labels: int
    side: int
    unexplained: list[str] = field(default_factory=list)
    asked: list[str] = field(default_factory=list)
    #: What is to be asked about those; "" for nothing. begins: the first lines of the first of them, where it is text.
    question: str = ""
    begins: list[str] = field(default_factory=list)

    def to_json(self) -> dict[str, Any]:
        """As plain values; of very many unexplained files the first thousand."""
        return {"pictures": self.pictures, "labels": self.labels, "side_files": self.side, "unexplained": len(self.unexplained),
                "unexplained_files": self.unexplained[:1000], "question": self.question, "begins": self.begins}  # fmt: skip

    def __str__(self) -> str:
        return f"pictures {self.pictures:,} · labels {self.labels:,} · side files {self.side:,} · unexplained {len(self.unexplained):,}"


def account_of(tree: Tree, title: str, reading: Reading, opened: set[str]) -> Account:
    """Every file of a tree as one of four. opened: files that the reader opened while it looked the dataset through."""
    pictures = set(reading.pictures())
    labels = {path for path in (*opened, *reading.labels()) if path} - pictures
    seen = set(tree.paths)
    others = [path for path in sorted(tree.files.paths) if path not in pictures and path not in labels]
    known = [pattern(each) for each in reading.side]
    unexplained = [path for path in others if path in seen and not is_side(path) and not any(each.fullmatch(path) for each in known)]
    stems = {stem_of(path) for path in pictures} if unexplained else set[str]()
    asked = [path for path in unexplained if could_hold(path) or (path.lower().endswith(READABLE) and stem_of(path) in stems)]
    begins = first_lines(tree, asked[0]) if asked else []
    return Account(len(pictures), len(labels), len(others) - len(unexplained), unexplained, asked, question_of(tree, title, asked, begins), begins)


def could_hold(path: str) -> bool:
    """Whether a file is of a kind of which some hold labels."""
    return path.lower().endswith(COULD_HOLD) and not is_side(path)


def is_side(path: str) -> bool:
    """Whether a file is known to hold no labels, by its name."""
    return path in RECORDS or bool(_SIDE.search(path.rsplit("/", 1)[-1]))


def question_of(tree: Tree, title: str, asked: list[str], begins: list[str]) -> str:
    """What is to be said of files that could hold labels and were not read: how many, three names, how one begins, the ways on. "" for none."""
    if not asked:
        return ""
    names = ", ".join(asked[:NAMED]) + (f" and {len(asked) - NAMED:,} more" if len(asked) > NAMED else "")
    files = "1 file that could hold labels was" if len(asked) == 1 else f"{len(asked):,} files that could hold labels were"
    shown = f"; {asked[0].rsplit('/', 1)[-1]} begins {' ⏎ '.join(begins)!r}" if begins else ""
    return (
        f"{tree.files.label}: read as {title}, {files} not read: {names}{shown}. Leave them out with --ignore 'PATTERN', "
        "say how they are read with --reading FILE (`varlen inspect --draft-reading` begins one), or name another format with --from"
    )


def first_lines(tree: Tree, path: str) -> list[str]:
    """How a text begins; nothing for what is no text."""
    head = tree.head(path, 2000)
    if b"\0" in head:
        return []
    lines = [line.strip()[:LONGEST_LINE] for line in head.decode("utf-8-sig", "replace").splitlines() if line.strip()][:LINES]
    return [] if any("\ufffd" in line for line in lines) else lines
