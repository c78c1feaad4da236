"""The files of a dataset, looked at as a whole: which are pictures, which may hold labels, and what belongs to what."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from fnmatch import fnmatchcase
from functools import cached_property
from typing import BinaryIO, NamedTuple

from varlen.datasets.sources import READABLE, SourceFiles
from varlen.errors import DatasetError

#: Of many files of one kind so many are looked into: the first, the last, and others evenly between them.
LOOKED_INTO = 40
#: Of a file that is looked into, so many bytes.
HEAD = 20_000
#: Names of folders that hold pictures or labels of every class: no class is called so.
PLAIN_FOLDERS = frozenset(
    ("images", "image", "imgs", "img", "pictures", "photos", "jpegimages", "frames", "labels", "label", "annotations", "annotation", "masks", "mask",
     "labeltxt", "gt", "data")
)  # fmt: skip


#: What an edition keeps beside the dataset that it is.
RECORDS = ("edition.json", "rows.jsonl", "sources.jsonl", "scores.jsonl")


class Signs(NamedTuple):
    """How far a dataset looks like one format.

    score: 0 for not at all, 1 for no doubt; why: files that speak for it; missing: what would have to be there;
    against: files that do not fit in.
    """

    score: float
    why: list[str]
    missing: str = ""
    against: Sequence[str] = ()


class Doubt(NamedTuple):
    """Why files may not be what they are read as. answers: by the value of an option, what is so where it is given."""

    said: str
    answers: Mapping[str, str]
    option: str = "--from"

    def __str__(self) -> str:
        return f"{self.said}; say " + ", ".join(f"{self.option} {value} if {words}" for value, words in self.answers.items())


class Tree:
    """A dataset's files by what they are."""

    def __init__(self, files: SourceFiles, ignore: Sequence[str] = ()) -> None:
        """ignore: patterns of files that are not looked at, with `*` for anything."""
        self.files = files
        self.ignore = ignore
        #: Why files could not be looked into.
        self.unreadable: list[str] = []

    @cached_property
    def paths(self) -> list[str]:
        """All files that are seen, sorted; an edition's own records are none of its labels."""
        return sorted(path for path in self.files.paths if not hidden(path) and path not in RECORDS and not self.is_ignored(path))

    def is_ignored(self, path: str) -> bool:
        """Whether a file was left out by a pattern of its path or its name."""
        return any(fnmatchcase(path, pattern) or fnmatchcase(path.rsplit("/", 1)[-1], pattern) for pattern in self.ignore)

    @cached_property
    def pictures(self) -> list[str]:
        """The picture files."""
        return [path for path in self.paths if path.lower().endswith(READABLE)]

    def ending(self, *suffixes: str) -> list[str]:
        """Files with one of the suffixes, in any case."""
        return [path for path in self.paths if path.lower().endswith(suffixes)]

    @cached_property
    def by_stem(self) -> dict[str, list[str]]:
        """Pictures by the lower-case name without suffix."""
        found: dict[str, list[str]] = {}
        for path in self.pictures:
            found.setdefault(stem_of(path), []).append(path)
        return found

    @cached_property
    def by_name(self) -> dict[str, list[str]]:
        """Pictures by the lower-case name with its suffix."""
        found: dict[str, list[str]] = {}
        for path in self.pictures:
            found.setdefault(path.rsplit("/", 1)[-1].lower(), []).append(path)
        return found

    @cached_property
    def lower(self) -> dict[str, str]:
        """Every file by its path in lower case."""
        return {path.lower(): path for path in self.paths}

    def picture_for(self, label_file: str) -> str | None:
        """The picture of a label file's name: beside it, else the one whose path is most like it."""
        return nearest(label_file, self.by_stem.get(stem_of(label_file), ()))

    def named(self, name: str) -> str | None:
        """The picture that a label file calls `name`: by its path, else by the end of its path, else by its stem alone.

        Windows, absolute and relative paths are met by their ends. None where there is none.
        """
        plain = plain_path(name)
        if plain in self.files.paths:
            return plain
        last = plain.rsplit("/", 1)[-1].lower()
        return nearest(plain, self.by_name.get(last) or self.by_stem.get(last) or ())

    def peek(self, path: str) -> BinaryIO:
        """A file opened for a look, which does not count as read in the account."""
        found: BinaryIO = getattr(self.files, "peek", self.files.open)(path)
        return found

    def head(self, path: str, size: int = HEAD) -> bytes:
        """The beginning of a file; empty where it can't be read."""
        try:
            with self.peek(path) as stream:
                return stream.read(size)
        except (DatasetError, OSError, ValueError) as error:
            self.unreadable.append(str(error))
            return b""


def spread(paths: Sequence[str], count: int = LOOKED_INTO) -> list[str]:
    """The first, the last and some of those between."""
    if len(paths) <= count:
        return list(paths)
    return [paths[n * (len(paths) - 1) // (count - 1)] for n in range(count)]


def hidden(path: str) -> bool:
    """Files that systems leave behind, and hidden ones."""
    return path.startswith((".", "__MACOSX")) or "/." in path or "/__MACOSX" in path or path.endswith("Thumbs.db")


def stem_of(path: str) -> str:
    """A file's name in lower case, without its last suffix."""
    name = path.rsplit("/", 1)[-1].lower()
    stem, dot, _ = name.rpartition(".")
    return stem if dot and stem else name


def plain_path(name: str) -> str:
    """A path as label files write it, with forward slashes, without a drive, a root or steps upwards."""
    parts = [part for part in name.strip().replace("\\", "/").split("/") if part not in ("", ".", "..")]
    if parts and parts[0].endswith(":"):
        parts = parts[1:]
    return "/".join(parts)


def nearest(wanted: str, candidates: Iterable[str]) -> str | None:
    """The candidate whose path has most in common with the wanted one: first the longest equal end, then shared folders, then the shorter."""
    found = list(candidates)
    if len(found) <= 1:
        return found[0] if found else None
    parts = wanted.lower().split("/")
    folders = set(parts[:-1])

    def likeness(path: str) -> tuple[int, int, int, str]:
        other = path.lower().split("/")
        end = 0
        for a, b in zip(reversed(parts[:-1]), reversed(other[:-1]), strict=False):
            if a != b:
                break
            end += 1
        return -end, -len(folders & set(other[:-1])), len(other), path

    return min(found, key=likeness)
