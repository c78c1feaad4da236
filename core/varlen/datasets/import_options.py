"""Reading options as people write them: shares, pairs, tiles and groups in words. `name`: what the option is called where it was written."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, fields, replace
from pathlib import PurePosixPath
from typing import Any, Literal

import numpy as np

from varlen.datasets.entry import Entry, group_in
from varlen.datasets.level_rules import LevelRule
from varlen.datasets.recipes import Recipe, kept_recipe
from varlen.datasets.skeleton import Skeleton
from varlen.errors import DatasetError

LONGEST_PATTERN = 200


@dataclass(frozen=True, slots=True)
class ImportOptions:
    """How a dataset is to be read.

    form: the format, "" to recognise it; exif: whether the labels of a picture with an EXIF orientation
    lie on the upright picture or on the pixels as stored; splits: as the files say, or drawn; shares: of
    validation and test, where drawn; seed: of the draw; groups: where an image's group is derived from, ""
    for the file's own, "folder", "field:NAME" or "name:PATTERN" (see `group_of`); classes: for every class
    in the files its name here, in the order wanted; one without a name is left out with its objects; keep_classes: names
    of classes instead, in the order wanted, all others left out.

    stratify: whether drawn splits divide each class alike; mask_class: the class of masks that hold one; levels: see
    `LevelRule`; mirror_pairs: keypoints that a mirror exchanges, in place of those their names say; mirror_classes: classes
    likewise; tile, overlap: windows that larger pictures are cut into, and how far they overlap, px; ignore: patterns of files that are not
    looked at; reading: the recipe that says how its label files are read.
    """

    form: str = ""
    exif: Literal["upright", "stored"] = "upright"
    splits: Literal["files", "drawn"] = "files"
    shares: tuple[float, float] = (0.1, 0.1)
    seed: int = 0
    groups: str = ""
    classes: tuple[tuple[str, str], ...] = field(default_factory=tuple)
    keep_classes: tuple[str, ...] = ()
    stratify: bool = True
    mask_class: str = ""
    levels: str = ""
    mirror_pairs: tuple[tuple[str, str], ...] | None = None
    mirror_classes: tuple[tuple[str, str], ...] = ()
    tile: tuple[int, int] | None = None
    overlap: int = 0
    ignore: tuple[str, ...] = ()
    reading: Recipe | None = None

    def __post_init__(self) -> None:
        LevelRule.parse(self.levels)
        if self.tile is not None and not (min(self.tile) >= 32 and max(self.tile) <= 16384 and 0 <= self.overlap < min(self.tile)):
            raise DatasetError("import options: tiles are from 32 to 16384 px wide and high, and overlap by less than that")
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
        made = dict(values)
        for name in ("shares", "keep_classes", "tile", "ignore"):
            if made.get(name) is not None:
                made[name] = tuple(made[name])
        for name in ("classes", "mirror_classes", "mirror_pairs"):
            if made.get(name) is not None:
                made[name] = tuple((old, new) for old, new in made[name])
        if made.get("reading") is not None and not isinstance(made["reading"], Recipe):
            made["reading"] = kept_recipe(made["reading"])
        return cls(**made)

    def to_json(self) -> dict[str, Any]:
        """Those that are not the usual ones, as plain values."""
        usual = ImportOptions()
        found = {each.name: getattr(self, each.name) for each in fields(self) if getattr(self, each.name) != getattr(usual, each.name)}
        return {name: _plain(value) for name, value in found.items()}

    @property
    def level_rule(self) -> LevelRule:
        """The rule for levels beyond 8 bits."""
        return LevelRule.parse(self.levels)

    def for_classes(self, found: Iterable[str]) -> ImportOptions:
        """The same with `keep_classes` spelled out for the classes that were found. Raises `DatasetError` for one that is not there."""
        if not self.keep_classes:
            return self
        there = tuple(found)
        for name in self.keep_classes:
            if name not in there:
                raise DatasetError(f"classes: there is no class {name!r}; there are {', '.join(there[:20])}")
        kept = [(name, name) for name in self.keep_classes]
        return replace(self, keep_classes=(), classes=(*kept, *((name, "") for name in there if name not in self.keep_classes)))

    def skeleton_of(self, skeleton: Skeleton) -> Skeleton:
        """Keypoints with the chosen mirror pairs. Raises `DatasetError` for a name that is not among them."""
        if self.mirror_pairs is None:
            return skeleton
        partners = list(range(len(skeleton.names)))
        for one, other in self.mirror_pairs:
            for name in (one, other):
                if name not in skeleton.names:
                    raise DatasetError(f"mirror pairs: there is no keypoint {name!r}; there are {', '.join(skeleton.names) or 'none'}")
            a, b = skeleton.names.index(one), skeleton.names.index(other)
            partners[a], partners[b] = b, a
        return replace(skeleton, partners=tuple(partners))

    def class_pairs(self, names: Iterable[str]) -> dict[str, str]:
        """The classes that a mirror exchanges, both ways. Raises `DatasetError` for one that is not there."""
        there, found = tuple(names), dict[str, str]()
        for one, other in self.mirror_classes:
            for name in (one, other):
                if name not in there:
                    raise DatasetError(f"mirror classes: there is no class {name!r}; there are {', '.join(there[:20]) or 'none'}")
            found |= {one: other, other: one}
        return found

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

    def with_classes(self, entry: Entry, found: tuple[str, ...]) -> Entry | None:
        """An image with its classes renamed and put in order; objects of those left out are gone.

        None for an image whose own classes are all left out, and that shows nothing else.
        """
        if not self.classes:
            return entry
        numbers = {name: number for number, name in enumerate(self.class_names(found))}
        renamed = dict(self.classes)
        places = np.array([numbers[renamed[name]] if renamed[name] else -1 for name in found], np.int64)
        objects = entry.objects
        if len(objects):
            kept = np.flatnonzero(places[objects.classes] >= 0).tolist()
            objects = objects.take(kept)
            objects = objects.replace(classes=places[objects.classes]) if kept else objects
        classes = tuple(dict.fromkeys(renamed[name] for name in entry.classes if renamed[name]))
        if entry.classes and not classes and not len(objects) and not entry.label_map:
            return None
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


def _plain(value: Any) -> Any:
    if isinstance(value, Recipe):
        return {"recipe": value.to_json(), "sha256": value.digest()}
    return [_plain(each) for each in value] if isinstance(value, tuple) else value


def _pattern(text: str) -> re.Pattern[str]:
    # With one {group} and at most three stars, trying all ways to match stays short.
    if text.count("{group}") != 1 or text.count("*") > 3 or len(text) > LONGEST_PATTERN:
        raise DatasetError("import options: a pattern for groups needs {group} once, and at most three *")
    words = {"{group}": "(?P<group>.+?)", "*": ".*", "#": r"\d+"}
    return re.compile("".join(words.get(part) or re.escape(part) for part in re.split(r"(\{group\}|\*|#)", text)))
