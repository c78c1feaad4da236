"""Options of an import: what a dataset's files don't state, or state ambiguously."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import PurePosixPath
from typing import Any, Literal

import numpy as np

from varlen.datasets.entry import Entry, group_in
from varlen.errors import DatasetError

LONGEST_PATTERN = 200


@dataclass(frozen=True, slots=True)
class ImportOptions:
    """How a dataset is to be read.

    form: the format, "" to recognise it; exif: whether the labels of a picture with an EXIF orientation
    lie on the upright picture or on the pixels as stored; splits: as the files say, or drawn; shares: of
    validation and test, where drawn; seed: of the draw; groups: where an image's group is derived from, ""
    for the file's own, "folder", "field:NAME" or "name:PATTERN" (see `group_of`); classes: for every class
    in the files its name here, in the order wanted; one without a name is left out with its objects.
    """

    form: str = ""
    exif: Literal["upright", "stored"] = "upright"
    splits: Literal["files", "drawn"] = "files"
    shares: tuple[float, float] = (0.1, 0.1)
    seed: int = 0
    groups: str = ""
    classes: tuple[tuple[str, str], ...] = field(default_factory=tuple)

    def __post_init__(self) -> None:
        if self.exif not in ("upright", "stored") or self.splits not in ("files", "drawn"):
            raise DatasetError("import options: exif is upright or stored, splits are files or drawn")
        if min(self.shares) < 0 or sum(self.shares) >= 1:
            raise DatasetError("import options: the shares of validation and test must leave some for training")
        if self.groups.startswith("name:"):
            _pattern(self.groups[5:])
        elif self.groups and self.groups != "folder" and not self.groups.startswith("field:"):
            raise DatasetError(f"import options: groups are derived from 'folder', 'field:NAME' or 'name:PATTERN', not {self.groups!r}")

    @classmethod
    def from_json(cls, values: Mapping[str, Any]) -> ImportOptions:
        """From plain values, in which pairs may be lists. Raises `DatasetError`."""
        shares, classes = values.get("shares", (0.1, 0.1)), values.get("classes", ())
        return cls(**{**values, "shares": tuple(shares), "classes": tuple((old, new) for old, new in classes)})

    def class_names(self, found: Iterable[str]) -> tuple[str, ...]:
        """The dataset's classes, in order. Raises `DatasetError` when a class in the files is missing from the list."""
        found = tuple(found)
        if not self.classes:
            return found
        spoken = {name for name, _ in self.classes}
        for name in found:
            if name not in spoken:
                raise DatasetError(f"import options: the class {name!r} of the files is missing from the list of classes")
        return tuple(dict.fromkeys(name for _, name in self.classes if name))

    def with_classes(self, entry: Entry, found: tuple[str, ...]) -> Entry:
        """An image with its classes renamed and put in order; objects of those left out are gone."""
        if not self.classes:
            return entry
        names = self.class_names(found)
        renamed = dict(self.classes)
        places = np.array([names.index(renamed[name]) if renamed[name] else -1 for name in found], np.int64)
        objects = entry.objects
        if len(objects):
            kept = np.flatnonzero(places[objects.classes] >= 0).tolist()
            objects = objects.take(kept)
            objects = objects.replace(classes=places[objects.classes]) if kept else objects
        classes = tuple(dict.fromkeys(renamed[name] for name in entry.classes if renamed[name]))
        return replace(entry, objects=objects, classes=classes)

    def group_of(self, entry: Entry) -> str:
        """The group an image belongs to, "" for none.

        PATTERN is a file's name without its suffix, in which {group} stands for the group's name, * for
        anything and # for digits: "{group}_frame#".
        """
        if self.groups == "folder":
            parent = PurePosixPath(entry.key).parent.as_posix()
            return "" if parent == "." else parent
        if self.groups.startswith("field:"):
            return group_in(entry.extra, self.groups[6:])
        if self.groups.startswith("name:"):
            match = _pattern(self.groups[5:]).fullmatch(PurePosixPath(entry.key).stem)
            return match["group"] if match else ""
        return entry.group


def _pattern(text: str) -> re.Pattern[str]:
    # With one {group} and at most three stars, trying all ways to match stays short.
    if text.count("{group}") != 1 or text.count("*") > 3 or len(text) > LONGEST_PATTERN:
        raise DatasetError("import options: a pattern for groups needs {group} once, and at most three *")
    words = {"{group}": "(?P<group>.+?)", "*": ".*", "#": r"\d+"}
    return re.compile("".join(words.get(part) or re.escape(part) for part in re.split(r"(\{group\}|\*|#)", text)))
