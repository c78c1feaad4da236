"""The files of a dataset as a reading recipe sees them: pictures, label files, rows, and what belongs to what."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from varlen.datasets.formats.row_shapes import class_in, filled, image_classes, objects_in, shape_of
from varlen.datasets.formats.rows import Placed, joined, rows_of, value_of
from varlen.datasets.formats.tree import Tree, nearest, plain_path, spread, stem_of
from varlen.datasets.recipes import ClassNames, LabelFiles, Recipe, pattern
from varlen.datasets.splits import SPLIT_WORDS
from varlen.errors import DatasetError
from varlen.model.geometry import Size


@dataclass
class Layout:
    """A recipe with the files it is applied to."""

    recipe: Recipe
    tree: Tree
    #: Pictures by some of the names in their paths, for each choice of names that was asked for.
    _index: dict[frozenset[str], dict[tuple[str, ...], str]] = field(default_factory=dict)

    @property
    def patterns(self) -> tuple[str, ...]:
        """The patterns of its pictures."""
        return (self.recipe.pictures,) if isinstance(self.recipe.pictures, str) else self.recipe.pictures

    @cached_property
    def pictures(self) -> dict[str, dict[str, str]]:
        """Every picture that the recipe's patterns find, with the names in its path."""
        patterns = [pattern(each) for each in self.patterns]
        used = set(self.names_of_pixels)
        found = {}
        for path in self.tree.pictures:
            match = next((match for each in patterns if (match := each.fullmatch(path))), None)
            if match is not None and path not in used:
                found[path] = match.groupdict()
        return found

    @cached_property
    def names_of_pixels(self) -> dict[str, dict[str, str]]:
        """Pictures whose pixels are labels, with the names in their paths."""
        if self.recipe.pixels is None:
            return {}
        wanted = pattern(self.recipe.pixels.files)
        return {path: match.groupdict() for path in self.tree.pictures if (match := wanted.fullmatch(path))}

    @cached_property
    def painted(self) -> dict[str, list[str]]:
        """For every picture those whose pixels are its labels."""
        found: dict[str, list[str]] = {}
        for path, names in self.names_of_pixels.items():
            key = self._by_names(names)
            if key is not None:
                found.setdefault(key, []).append(path)
        return found

    def files_of(self, kind: int) -> list[tuple[str, dict[str, str]]]:
        """The label files of one kind, with the names in their paths."""
        said = self.recipe.labels[kind]
        wanted = [pattern(each.files) for each in (said.join or (said,))]
        found = []
        for path in self.tree.paths:
            match = next(filter(None, (each.fullmatch(path) for each in wanted)), None)
            if match is not None and path not in self.pictures and path not in self.names_of_pixels:
                found.append((path, match.groupdict()))
        return found

    def names_in(self, kind: int, path: str) -> dict[str, str]:
        """The names in a label file's path; of joined files none."""
        said = self.recipe.labels[kind]
        match = None if said.join else pattern(said.files).fullmatch(path)
        return match.groupdict() if match else {}

    def by_file(self, kind: int, most: int | None = None) -> Iterator[tuple[str, Iterator[Placed]]]:
        """The rows of every file of one kind; of files that are joined all together. most: of that many files, spread over all."""
        said = self.recipe.labels[kind]
        files = self.tree.files
        if said.join:
            parts = []
            for part in said.join:
                wanted = pattern(part.files)
                paths = [path for path in self.tree.paths if wanted.fullmatch(path)]
                if not paths:
                    raise DatasetError(f"{files.label}: the recipe {self.recipe.name!r} finds no file {part.files}")
                parts += [rows_of(files, path, part) for path in paths]
            yield said.join[0].files, joined(parts, said.by)
            return
        paths = [path for path, _ in self.files_of(kind)]
        for path in paths if most is None else spread(paths, most):
            yield path, rows_of(files, path, said)

    def rows(self, kind: int, most: int | None = None) -> Iterator[tuple[str, dict[str, Any], dict[str, str]]]:
        """The rows of all files of one kind, with the names in their paths."""
        for path, rows in self.by_file(kind, most):
            names = self.names_in(kind, path)
            yield from ((place, row, names) for place, row in rows)

    def has_own_files(self, kind: int) -> bool:
        """Whether each label file is of one picture, which its path names."""
        said = self.recipe.labels[kind]
        return not self.recipe.picture and not said.join and not said.block and bool(_names_in(said.files) & self._picture_names)

    @cached_property
    def _picture_names(self) -> set[str]:
        return set.intersection(*(_names_in(each) for each in self.patterns))

    def _by_names(self, names: Mapping[str, str]) -> str | None:
        """The picture whose path has the same names."""
        common = frozenset(names.keys() & (self._picture_names | {"_above"}))
        if common <= {"_above"}:
            return None
        index = self._index.get(common)
        ordered = sorted(common)
        if index is None:
            index = self._index[common] = {}
            for key, own in self.pictures.items():
                index.setdefault(tuple(own[name].lower() for name in ordered), key)
        return index.get(tuple(names[name].lower() for name in ordered))

    @cached_property
    def _by_name(self) -> dict[str, list[str]]:
        found: dict[str, list[str]] = {}
        for key in self.pictures:
            name = key.rsplit("/", 1)[-1].lower()
            for each in dict.fromkeys((name, stem_of(key))):
                found.setdefault(each, []).append(key)
        return found

    def picture_of(self, row: Mapping[str, Any], names: Mapping[str, str]) -> str | None:
        """The picture that a row, or its file, is of."""
        if not self.recipe.picture:
            return self._by_names(names)
        wanted = self._wanted(row, names)
        if not wanted:
            return None
        plain_name = plain_path(wanted)
        last = plain_name.rsplit("/", 1)[-1].lower()
        near = self._by_name.get(last) or self._by_name.get(stem_of(last)) or []
        return plain_name if plain_name in self.pictures else nearest(names.get("_above", "") + plain_name, near)

    def _wanted(self, row: Mapping[str, Any], names: Mapping[str, str]) -> str:
        text = self.recipe.picture
        if "{" not in text:
            value = value_of(text, row, names)
            return str(value) if isinstance(value, (str, int)) and not isinstance(value, bool) else ""
        return filled(text, row, names)

    def unfound(self, row: Mapping[str, Any], names: Mapping[str, str]) -> str:
        """What a row without a picture asks for."""
        return repr((self._wanted(row, names) if self.recipe.picture else names.get("name", ""))[:100])

    def labels_in(self, row: dict[str, Any], names: Mapping[str, str], place: str) -> Iterator[str]:
        """The class of every object in a row, and those of the picture."""
        for each in objects_in(self.recipe, row, names, place):
            if self.recipe.class_ is not None and (name := self.class_of(each, names, place)):
                yield name
            yield from self.classes_of(each, names)

    @cached_property
    def given(self) -> dict[str, str]:
        """Names of classes by what the labels call them."""
        classes = self.recipe.classes
        if isinstance(classes, dict):
            return classes
        if isinstance(classes, tuple):
            return {str(place): name for place, name in enumerate(classes)}
        return _class_names(self.tree, classes)

    def class_of(self, row: Mapping[str, Any], names: Mapping[str, str], place: str) -> str:
        """An object's class; "" where it says none. Raises `DatasetError` for one that is not in the list."""
        return class_in(self.recipe, self.given, row, names, place)

    def classes_of(self, row: Mapping[str, Any], names: Mapping[str, str]) -> list[str]:
        """The classes that a row gives its picture."""
        return image_classes(self.recipe, self.given, row, names)

    def reads(self, row: Mapping[str, Any], names: Mapping[str, str], place: str) -> bool:
        """Whether a row is an object or gives its picture a class. Raises `DatasetError` for what can't be read."""
        if self.recipe.pixels is not None and self.recipe.pixels.match:
            return value_of(self.recipe.pixels.match, row, names) is not None and bool(self.class_of(row, names, place))
        return shape_of(self.recipe, self.given, row, names, Size(1, 1), place) is not None or bool(self.classes_of(row, names))

    def split_of(self, row: Mapping[str, Any], names: Mapping[str, str]) -> str | None:
        """The split that a row says, else a path."""
        value = value_of(self.recipe.split, row, names) if self.recipe.split else names.get("split")
        if value is None:
            return None
        text = str(value).strip()
        given = self.recipe.splits if isinstance(self.recipe.splits, dict) else {}
        begins = next((split for word, split in SPLIT_WORDS.items() if text.lower().startswith(word)), None)
        return given.get(text) or SPLIT_WORDS.get(text.lower()) or begins

    @cached_property
    def _lists(self) -> dict[str, str]:
        if not isinstance(self.recipe.splits, str):
            return {}
        wanted, found = pattern(self.recipe.splits), dict[str, str]()
        for path in self.tree.paths:
            match = wanted.fullmatch(path)
            split = SPLIT_WORDS.get((match.groupdict().get("split") or "").lower()) if match else None
            if split:
                for line in self.tree.files.read(path).decode("utf-8-sig", "replace").splitlines():
                    found.setdefault(stem_of(line.strip().replace("\\", "/")), split)
        return found

    def listed_split(self, key: str) -> str | None:
        """The split of the list that a picture stands in."""
        return self._lists.get(stem_of(key))

    def in_order(self, seen: Iterable[str]) -> tuple[str, ...]:
        """Classes as the recipe lists them, else by name; numbers by their value."""
        listed = [name for name in dict.fromkeys(self.given.values()) if name]
        rest = sorted(set(seen) - set(listed) - {""}, key=lambda name: (0, int(name), "") if name.isdecimal() and len(name) < 10 else (1, 0, name))
        return (*listed, *rest)


def _names_in(text: str) -> set[str]:
    return set(pattern(text).groupindex) - {"_above"}


def _class_names(tree: Tree, said: ClassNames) -> dict[str, str]:
    """From a file of names: by the number in each row, else counted from 0."""
    wanted, found = pattern(said.files), dict[str, str]()
    kind = LabelFiles(files=said.files, columns=said.columns, separator=said.separator, each=said.each)
    paths = [path for path in tree.paths if wanted.fullmatch(path)]
    if not paths:
        raise DatasetError(f"{tree.files.label}: there is no file of classes {said.files}")
    for path in paths:
        for place, (_, row) in enumerate(rows_of(tree.files, path, kind)):
            value = value_of(said.number, row, {})
            found[str(place if value is None else value)] = str(value_of(said.name, row, {}))
    return found
