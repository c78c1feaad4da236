"""Reads a dataset by a reading recipe: one that ships with the package and fits, or one that a person wrote.

Label files are found by the recipe's patterns, rows by `rows`, and each row becomes an object, a class of its picture, or both. Fields that
no part of the recipe reads are kept as attributes of the object or the picture.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from itertools import islice
from typing import Any, NamedTuple

import numpy as np

from varlen.datasets.entry import Entry
from varlen.datasets.formats.base import ListedImage, Reading, json_bytes, no_objects, size_of
from varlen.datasets.formats.row_shapes import Shape, class_in, filled, image_classes, parts_of, shape_of
from varlen.datasets.formats.rows import Placed, is_empty_block, joined, plain, root_of, rows_in, rows_of, value_of
from varlen.datasets.formats.tree import Signs, Tree, nearest, plain_path, spread, stem_of
from varlen.datasets.level_rules import rgb_of
from varlen.datasets.recipes import ClassNames, LabelFiles, Recipe, pattern
from varlen.datasets.skeleton import Skeleton
from varlen.datasets.sources import SourceFiles
from varlen.datasets.splits import SPLIT_WORDS, default_splits, split_from_path
from varlen.errors import DatasetError, ReadProblems
from varlen.model.geometry import Size
from varlen.model.objects import Mask, make_objects

NAME = "recipe"
TITLE = "a reading recipe"
CONVENTION = "as a reading recipe says"
#: To tell whether a recipe fits, so many of its files and rows are looked at.
FILES_TRIED, ROWS_TRIED = 6, 200


class Said(NamedTuple):
    """What the files say of one picture: a label file of its own, or rows of larger ones, as JSON."""

    kind: int
    path: str
    names: dict[str, str]
    rows: tuple[tuple[str, bytes], ...] | None


def signs(recipe: Recipe, tree: Tree) -> Signs:
    """Whether a recipe reads what is there: its files are there, every row tried is one, and their pictures are found."""
    missing = f"files as the recipe {recipe.name!r} describes"
    quiet = ReadProblems(strict=False)
    layout = Layout(recipe, tree, quiet)
    paths = [path for kind in range(len(recipe.labels)) for path, _ in layout.files_of(kind)]
    if not (paths or layout.painted) or not layout.pictures:
        return Signs(0.0, [], missing)
    shapes = met = found = 0
    try:
        if not recipe.labels:
            some = [path for paths in islice(layout.painted.values(), 3) for path in paths][:3]
            return Signs(0.9 if len(layout.painted) >= 0.5 * len(layout.pictures) else 0.0, some, missing)
        for kind in range(len(recipe.labels)):
            for place, row, names in islice(layout.rows(kind, FILES_TRIED), ROWS_TRIED):
                met += 1
                found += layout.picture_of(row, names) is not None
                if is_empty_block(recipe.labels[kind], row):
                    continue
                for each in layout.objects_of(row, place):
                    if layout.is_skipped(each, names):
                        continue
                    shapes += layout.reads(each, names, place)
    except DatasetError:
        return Signs(0.0, [], missing)
    fits = shapes > 0 and found >= 0.8 * met
    return Signs(0.9 if fits else 0.0, paths[:5], missing)


def read(tree: Tree, problems: ReadProblems, recipe: Recipe) -> Reading:
    """A dataset by a recipe. Raises `DatasetError` naming what the recipe does not find, or the file and line that it can't read."""
    layout = Layout(recipe, tree, problems)
    if not layout.pictures:
        said = recipe.pictures if isinstance(recipe.pictures, str) else " or ".join(recipe.pictures)
        raise DatasetError(f"{tree.files.label}: the recipe {recipe.name!r} finds no picture by {said}")
    labels: dict[str, list[Said]] = {key: [] for key in layout.pictures}
    splits: dict[str, str] = {}
    used: set[str] = set()
    seen: dict[str, None] = {}
    for kind in range(len(recipe.labels)):
        own = layout.has_own_files(kind)
        used.update(path for path, _ in layout.files_of(kind))
        for path, rows in layout.by_file(kind):
            by_picture: dict[str, list[tuple[str, bytes]]] = {}
            names = layout.names_in(kind, path)
            try:
                for place, row in rows:
                    key = layout.picture_of(row, names)
                    if key is None:
                        problems.note("missing-file", f"{place}: there is no picture for it ({layout.unfound(row, names)})")
                        continue
                    split = layout.split_of(row, names)
                    if split:
                        splits.setdefault(key, split)
                    seen.update(dict.fromkeys(layout.labels_in(row, names, place)))
                    by_picture.setdefault(key, []).append((place, b"" if own else json_bytes(row)))
            except DatasetError as error:
                problems.note("bad-label", str(error))
                if own:
                    labels.pop(layout.picture_of({}, names) or "", None)
                continue
            if own and not by_picture and (key := layout.picture_of({}, names)) in labels:
                by_picture[key] = []  # a file without rows
            for key, found in by_picture.items():
                if key in labels:
                    labels[key].append(Said(kind, path, names, None if own else tuple(found)))
    if recipe.labels and not used:
        raise DatasetError(
            f"{tree.files.label}: the recipe {recipe.name!r} finds no label file by {' or '.join(each.files for each in recipe.labels)}"
        )
    if recipe.labels and not any(labels.values()):
        raise DatasetError(problems.noted[0][1] if problems.noted else f"{tree.files.label}: the recipe {recipe.name!r} finds no row of a picture")
    bare = [key for key, said in labels.items() if not said and not layout.painted.get(key)]
    if bare:
        problems.remark("background", f"{len(bare)} pictures have no labels and are read as background, such as {bare[0]}")
    if recipe.pixels is not None and not recipe.pixels.match:
        for key, paths in layout.painted.items():
            seen.update(dict.fromkeys(name for path in paths if (name := layout.class_of({}, layout.names_of_pixels[path], key))))
    classes = layout.in_order(seen)
    for key in labels:
        named = layout.listed_split(key) or splits.get(key) or layout.split_of({}, layout.pictures[key]) or split_from_path(key)
        if named:
            splits[key] = named
    drawn = {} if splits else default_splits({"": sorted(labels)})
    listed = (ListedImage(key, (splits.get(key) or drawn.get(key, "train"), tuple(said), tuple(layout.painted.get(key, ()))))
              for key, said in sorted(labels.items()))  # fmt: skip
    names_of_points = recipe.keypoints.names if recipe.keypoints is not None else ()
    pixels = {path for paths in layout.painted.values() for path in paths}
    return Reading(classes, listed, _Read(tree.files, recipe, classes, layout.given, layout.names_of_pixels), len(labels), problems,
                   skeleton=Skeleton(names_of_points), drawn=bool(drawn), side=recipe.side,
                   pictures=lambda: labels, labels=lambda: used | pixels)  # fmt: skip


@dataclass
class Layout:
    """A recipe with the files it is applied to."""

    recipe: Recipe
    tree: Tree
    problems: ReadProblems

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

    @cached_property
    def _index(self) -> dict[frozenset[str], dict[tuple[str, ...], str]]:
        return {}

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

    def objects_of(self, row: dict[str, Any], place: str) -> list[dict[str, Any]]:
        """The objects in a row or record."""
        return rows_in(value_of(self.recipe.objects, row, {}), place) if self.recipe.objects else [row]

    def is_skipped(self, row: Mapping[str, Any], names: Mapping[str, str]) -> bool:
        """Whether the recipe leaves this object out."""
        return any(str(value_of(name, row, names)) in map(str, values) for name, values in self.recipe.skip.items())

    def labels_in(self, row: dict[str, Any], names: Mapping[str, str], place: str) -> Iterator[str]:
        """The class of every object in a row, and those of the picture."""
        for each in self.objects_of(row, place):
            if self.is_skipped(each, names):
                continue
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
        return self._lists.get(stem_of(key)) if self._lists else None

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


@dataclass(frozen=True, slots=True)
class _Read:
    files: SourceFiles
    recipe: Recipe
    classes: tuple[str, ...]
    given: Mapping[str, str]
    pixel_names: Mapping[str, Mapping[str, str]] = field(default_factory=dict)

    def __call__(self, image: ListedImage, problems: ReadProblems) -> Entry:
        split, said, painted = image.body
        size = size_of(self.files, image.key)
        numbers = {name: place for place, name in enumerate(self.classes)}
        shapes: list[Shape] = []
        whole: dict[str, None] = {}
        extra: dict[str, Any] = {}
        by_id: dict[str, tuple[str, dict[str, Any]]] = {}
        for place, row, names, kind in self._rows(said):
            own = {name: value for name, value in names.items() if name not in ("_above", "split", "name", "class")}
            extra |= {name: plain(value) for name, value in own.items()}
            if is_empty_block(self.recipe.labels[kind], row):
                continue
            try:
                items = rows_in(value_of(self.recipe.objects, row, {}), place) if self.recipe.objects else [row]
            except DatasetError as error:
                problems.note("bad-label", str(error))
                continue
            if self.recipe.objects:
                extra |= self._left(row)
            for each in items:
                if any(str(value_of(name, each, names)) in map(str, values) for name, values in self.recipe.skip.items()):
                    continue
                try:
                    found = image_classes(self.recipe, self.given, each, names)
                    whole.update(dict.fromkeys(found))
                    if self.recipe.pixels is not None and self.recipe.pixels.match:
                        label = class_in(self.recipe, self.given, each, names, place)
                        by_id[str(value_of(self.recipe.pixels.match, each, names))] = (label, self._left(each))
                        continue
                    shape = shape_of(self.recipe, self.given, each, names, size, place)
                except DatasetError as error:
                    problems.note("bad-label", f"{place}: {error}" if not str(error).startswith(place) else str(error))
                    continue
                if shape is None:
                    if not self.recipe.objects:
                        extra |= self._left(each)
                    elif not found:
                        problems.note("bad-label", f"{place}: an object without any of the shapes that the recipe reads")
                    continue
                shapes.append(shape._replace(attributes=self._left(each)))
        for path in painted:
            shapes += self._painted(path, size, by_id, problems)
        if not shapes:
            return Entry(image.key, split, size, no_objects(image.key), extra=extra, classes=tuple(whole))
        count = len(self.recipe.keypoints.names) if self.recipe.keypoints is not None else 0
        objects = make_objects(
            [str(n + 1) for n in range(len(shapes))], image.key, [numbers[each.label] for each in shapes], [each.box for each in shapes],
            [each.parts for each in shapes], [each.mask for each in shapes], [each.points or [[0.0, 0.0, 0.0]] * count for each in shapes],
            [False] * len(shapes), [each.attributes for each in shapes], [each.turned for each in shapes],
        )  # fmt: skip
        return Entry(image.key, split, size, objects, extra=extra, classes=tuple(whole))

    def _rows(self, said: Iterable[Said]) -> Iterator[tuple[str, dict[str, Any], dict[str, str], int]]:
        for each in said:
            rows: Iterable[Placed]
            if each.rows is None:
                rows = rows_of(self.files, each.path, self.recipe.labels[each.kind])
            else:
                rows = ((place, json.loads(text)) for place, text in each.rows)
            yield from ((place, row, each.names, each.kind) for place, row in rows)

    def _left(self, row: Mapping[str, Any]) -> dict[str, Any]:
        """The fields that no part of the recipe reads."""
        read = {root_of(text, row) for text in self.recipe.expressions()}
        if self.recipe.one_hot == "*":
            return {}
        template = {part[1:-1].partition(":")[0] for part in parts_of(self.recipe.picture) if part.startswith("{")}
        read |= template | {"count"} | set(self.recipe.one_hot or ())
        left = {name: plain(value) for name, value in row.items() if name not in read and value is not None}
        inner = left.get("attributes")
        return {**{name: value for name, value in left.items() if name != "attributes"}, **inner} if isinstance(inner, dict) else left

    def _painted(self, path: str, size: Size, by_id: Mapping[str, tuple[str, dict[str, Any]]], problems: ReadProblems) -> Iterator[Shape]:
        """The objects in a picture of ids."""
        pixels = self.recipe.pixels
        if pixels is None:
            return
        try:
            colors = rgb_of(self.files.read(path), path)
        except DatasetError as error:
            problems.note("damaged-file", str(error))
            return
        if colors.shape[:2] != (size.height, size.width):
            problems.note("bad-label", f"{path}: is {colors.shape[1]}×{colors.shape[0]} px, its picture {size.width}×{size.height} px")
            return
        if pixels.ids == "any":
            ids = colors.any(axis=2).astype(np.int64)
        else:
            ids = colors.astype(np.int64) @ np.array(pixels.ids, np.int64)
        names = self.pixel_names.get(path, {})
        for number_of in np.unique(ids).tolist():
            if number_of in pixels.background:
                continue
            mask = Mask.tight((ids == number_of).astype(np.uint8))
            if mask is None:
                continue
            if pixels.match:
                if str(number_of) not in by_id:
                    continue  # a region that no label names
                label, attributes = by_id[str(number_of)]
            else:
                label, attributes = class_in(self.recipe, self.given, {}, names, path), {}
            if label:
                yield Shape(label, list(mask.box), None, None, [], attributes, mask)
