"""Reads a dataset by a reading recipe: one that ships with the package and fits, or one that a person wrote.

Label files are found by the recipe's patterns, rows by `rows`, and each row becomes an object, a class of its picture, or both. Fields that
no part of the recipe reads are kept as attributes of the object or the picture.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from itertools import islice
from typing import Any, NamedTuple

import numpy as np

from varlen.datasets.entry import Entry
from varlen.datasets.formats.base import ListedImage, Reading, json_bytes, no_objects, size_of
from varlen.datasets.formats.layouts import Layout
from varlen.datasets.formats.row_shapes import Shape, class_in, fields_read, image_classes, objects_in, shape_of
from varlen.datasets.formats.rows import Placed, is_empty_block, plain, root_of, rows_of, value_of
from varlen.datasets.formats.tree import Signs, Tree
from varlen.datasets.level_rules import rgb_of
from varlen.datasets.recipes import Recipe
from varlen.datasets.skeleton import Skeleton
from varlen.datasets.sources import SourceFiles
from varlen.datasets.splits import default_splits, split_from_path
from varlen.errors import DAMAGE, DatasetError, ReadProblems
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
    layout = Layout(recipe, tree)
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
                for each in objects_in(recipe, row, names, place):
                    shapes += layout.reads(each, names, place)
    except (DatasetError, *DAMAGE):
        return Signs(0.0, [], missing)
    fits = shapes > 0 and found >= 0.8 * met
    return Signs(0.9 if fits else 0.0, paths[:5], missing)


def read(tree: Tree, problems: ReadProblems, recipe: Recipe) -> Reading:
    """A dataset by a recipe. Raises `DatasetError` naming what the recipe does not find, or the file and line that it can't read."""
    layout = Layout(recipe, tree)
    if not layout.pictures:
        raise DatasetError(f"{tree.files.label}: the recipe {recipe.name!r} finds no picture by {' or '.join(layout.patterns)}")
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
    read_one = _Read(tree.files, recipe, classes, layout.given, layout.names_of_pixels, fields_read(recipe))
    return Reading(classes, listed, read_one, len(labels), problems, skeleton=Skeleton(names_of_points), drawn=bool(drawn), side=recipe.side,
                   pictures=lambda: labels, labels=lambda: used | pixels)  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Read:
    files: SourceFiles
    recipe: Recipe
    classes: tuple[str, ...]
    given: Mapping[str, str]
    pixel_names: Mapping[str, Mapping[str, str]]
    #: Every field that is read: what else a row holds are attributes.
    read: tuple[str, ...]

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
                items = objects_in(self.recipe, row, names, place)
            except DatasetError as error:
                problems.note("bad-label", str(error))
                continue
            if self.recipe.objects:
                extra |= self._left(row)
            for each in items:
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
        if self.recipe.one_hot == "*":
            return {}
        read = {root_of(text, row) for text in self.read}
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
