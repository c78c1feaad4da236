"""Objects and classes from the rows of label files that a reading recipe describes: boxes, outlines, turned boxes, circles, keypoints."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Mapping
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.formats.rows import plain, root_of, rows_in, value_of
from varlen.datasets.formats.words import number, points_of
from varlen.datasets.recipes import Recipe
from varlen.errors import DatasetError
from varlen.model.geometry import Size
from varlen.model.objects import Mask, Part

#: Corners that a circle's outline gets.
CIRCLE = 48

#: From coordinates as written to points in pixels.
_At = Callable[[Any], NDArray[np.float64]]


def circle(x: float, y: float, radius: float) -> NDArray[np.float64]:
    """The outline of a circle, (CIRCLE, 2)."""
    around = np.linspace(0, 2 * math.pi, CIRCLE, endpoint=False)
    return np.stack([x + radius * np.cos(around), y + radius * np.sin(around)], 1)


class Shape(NamedTuple):
    """One object as a row says it; box x_min, y_min, x_max, y_max in px."""

    label: str
    box: list[float]
    parts: tuple[Part, ...] | None
    turned: NDArray[np.float64] | None
    points: list[list[float]]
    attributes: dict[str, Any]
    mask: Mask | None = None


def filled(template: str, row: Mapping[str, Any], names: Mapping[str, str]) -> str:
    """A path with its {names} put in; `{frame:6}` fills a number up with zeros. "" where a name says nothing."""
    out = []
    for part in _parts(template):
        if not part.startswith("{"):
            out.append(part)
            continue
        name, _, digits = part[1:-1].partition(":")
        value = value_of(name, row, names)
        if value is None or isinstance(value, (dict, list)):
            return ""
        text = str(value).strip()
        if digits:
            number_of = plain(text)
            text = (str(int(number_of)) if isinstance(number_of, float) else str(number_of)).zfill(min(int(digits), 40))
        out.append(text)
    return "".join(out)


def _parts(template: str) -> list[str]:
    return [part for part in re.split(r"(\{[a-z_]\w*(?::\d+)?\})", template) if part]


def fields_read(recipe: Recipe) -> tuple[str, ...]:
    """Every field of rows that the recipe reads for something, also in the path of a picture."""
    in_path = [part[1:-1].partition(":")[0] for part in _parts(recipe.picture) if part.startswith("{")]
    return (*recipe.expressions(), *in_path, "count", *(recipe.one_hot or ()))


def objects_in(recipe: Recipe, row: dict[str, Any], names: Mapping[str, str], place: str) -> list[dict[str, Any]]:
    """The objects in a row or record, without those that the recipe leaves out. Raises `DatasetError` with the place."""
    found = rows_in(value_of(recipe.objects, row, {}), place) if recipe.objects else [row]
    skipped = [(name, set(map(str, values))) for name, values in recipe.skip.items()]
    return [each for each in found if not any(str(value_of(name, each, names)) in values for name, values in skipped)]


def class_name(value: Any, given: Mapping[str, str], closed: bool, place: str) -> str:
    """A class as the dataset calls it. closed: only those that are given are classes."""
    if isinstance(value, float) and value.is_integer():
        value = int(value)
    if isinstance(value, list):
        value = value[0] if len(value) == 1 else None
    if value is None or isinstance(value, (dict, list)):
        return ""
    text = str(value).strip()[:200]
    if closed and text not in given:
        raise DatasetError(f"{place}: the class {text[:40]!r} is not among those that are listed")
    return given.get(text, text)


def class_in(recipe: Recipe, given: Mapping[str, str], row: Mapping[str, Any], names: Mapping[str, str], place: str) -> str:
    """An object's class; "" where it says none. Raises `DatasetError` for one that the recipe's list does not have."""
    return class_name(value_of(recipe.class_ or "", row, names), given, not isinstance(recipe.classes, dict), place)


def image_classes(recipe: Recipe, given: Mapping[str, str], row: Mapping[str, Any], names: Mapping[str, str]) -> list[str]:
    """The classes a row gives its picture."""
    found = []
    if recipe.image_class is not None:
        value = value_of(recipe.image_class, row, names)
        found += [class_name(each, given, False, "") for each in (value if isinstance(value, list) else [value])]
    if recipe.one_hot is not None:
        read = {root_of(text, row) for text in recipe.expressions()}
        columns = [name for name in row if name not in read] if recipe.one_hot == "*" else recipe.one_hot
        for name in columns:
            value = plain(row.get(name))
            if isinstance(value, bool) or value not in (0, 1, 0.0, 1.0):
                raise DatasetError(f"the column {name!r} holds {str(value)[:30]!r}, which is neither 0 nor 1")
            found += [name] if value else []
    return [name for name in found if name]


def shape_of(recipe: Recipe, given: Mapping[str, str], row: Mapping[str, Any], names: Mapping[str, str], size: Size, place: str) -> Shape | None:
    """The object that a row is, in pixels; None where none of the recipe's shapes is in it. Raises `DatasetError` with the place."""
    if recipe.class_ is None:
        return None
    scale = np.array([size.width, size.height], np.float64) if recipe.unit == "shares" else np.ones(2)

    def at(points: Any) -> NDArray[np.float64]:
        return (np.asarray(points, np.float64).reshape(-1, 2) - recipe.first_pixel) * scale

    box = _box(recipe, row, names, place)
    turned = parts = None
    points: list[list[float]] = []
    if box is not None:
        low, high = at(box[:2])[0], (at(box[2:])[0] if recipe.box_form == "corners" else at(box[:2])[0] + (np.array(box[2:]) - box[:2]) * scale)
        if (high < low).any():
            raise DatasetError(f"{place}: the box {' '.join(f'{value:g}' for value in box)} is not from low to high")
        box = [*low.tolist(), *high.tolist()]
    if recipe.corners is not None and (value := _together(recipe.corners, row, names)) is not None:
        turned = at(points_of(value, place))
        if len(turned) != 4:
            raise DatasetError(f"{place}: four corners are expected, not {len(turned)}")
    if recipe.turned is not None and (value := _together(recipe.turned, row, names)) is not None:
        turned = _turned(recipe, [number(each, place) for each in value], scale)
    if recipe.outline is not None:
        rings = [at(ring) for ring in _rings(recipe.outline, row, names, place)]
        parts = tuple(Part(ring) for ring in rings) or None
    if recipe.circle is not None and (value := _together(recipe.circle, row, names)) is not None:
        x, y, r = (number(each, place) for each in value)
        parts = (Part(at(circle(x, y, r))),)
    if recipe.keypoints is not None:
        points = _points(recipe, row, names, at, place)
    if box is None:
        corners = turned if turned is not None else np.concatenate([part.outline for part in parts]) if parts else None
        if corners is None and any(v > 0 for *_, v in points):
            corners = np.array([[x, y] for x, y, v in points if v > 0])
        if corners is None:
            return None
        box = [*corners.min(axis=0).tolist(), *corners.max(axis=0).tolist()]
    label = class_in(recipe, given, row, names, place)
    if not label:
        raise DatasetError(f"{place}: an object without a class")
    return Shape(label, box, parts, turned, points, {})


def _box(recipe: Recipe, row: Mapping[str, Any], names: Mapping[str, str], place: str) -> list[float] | None:
    """Its box as two corners in the recipe's unit; None for none."""
    if recipe.box is None or (value := _together(recipe.box, row, names)) is None:
        return None
    if isinstance(value, str):
        value = value.replace(",", " ").split()
    found = [number(each, place) for each in (value if isinstance(value, list) else [value])]
    if len(found) != 4:
        raise DatasetError(f"{place}: a box needs four numbers, not {len(found)}")
    a, b, c, d = found
    return {"corners": found, "corner-size": [a, b, a + c, b + d], "centre-size": [a - c / 2, b - d / 2, a + c / 2, b + d / 2]}[recipe.box_form]


def _together(fields: str | tuple[str, ...], row: Mapping[str, Any], names: Mapping[str, str]) -> Any:
    """One field, or a list of the values of several; None where none of them is there."""
    if isinstance(fields, str):
        value = value_of(fields, row, names)
        return None if value in ("", []) else value
    values = [value_of(each, row, names) for each in fields]
    return None if all(value is None or value == "" for value in values) else values


def _turned(recipe: Recipe, values: list[float], scale: NDArray[np.float64]) -> NDArray[np.float64]:
    """The corners of a box turned about its middle; angles run as the picture's axes do, from x to y."""
    x, y, w, h, angle = values
    angle = math.radians(angle) if recipe.angle == "degrees" else angle
    turn = np.array([[math.cos(angle), math.sin(angle)], [-math.sin(angle), math.cos(angle)]])
    corners = np.array([[-w, -h], [w, -h], [w, h], [-w, h]]) / 2
    moved: NDArray[np.float64] = ((corners * scale) @ turn) + (np.array([x, y]) - recipe.first_pixel) * scale
    return moved


def _rings(fields: str | tuple[str, str], row: Mapping[str, Any], names: Mapping[str, str], place: str) -> list[NDArray[np.float64]]:
    """Outlines: two lists of x and y, a list of points, or a list of such lists."""
    value = _together(fields, row, names)
    if value is None:
        return []
    if isinstance(fields, tuple):
        xs, ys = (each if isinstance(each, list) else str(each or "").replace(",", " ").split() for each in value)
        if len(xs) != len(ys):
            raise DatasetError(f"{place}: {len(xs)} x and {len(ys)} y of an outline")
        value = [[x, y] for x, y in zip(xs, ys, strict=True)]
    if isinstance(value, str):
        value = value.replace(",", " ").replace(";", " ").split()
    deep = isinstance(value, list) and value and isinstance(value[0], list) and value[0] and isinstance(value[0][0], (list, dict))
    flat_parts = isinstance(value, list) and value and isinstance(value[0], list) and len(value[0]) >= 6 and not deep
    rings = [points_of(each, place) for each in (value if deep or flat_parts else [value])]
    for ring in rings:
        if len(ring) < 3:
            raise DatasetError(f"{place}: an outline of {len(ring)} points")
    return rings


def _points(recipe: Recipe, row: Mapping[str, Any], names: Mapping[str, str], at: _At, place: str) -> list[list[float]]:
    """Keypoints as x, y and visibility: 0 not labelled, 1 hidden, 2 seen."""
    said = recipe.keypoints
    if said is None:
        return []
    value = _together(said.points, row, names) if isinstance(said.points, str) else [_together(each, row, names) for each in said.points]
    if value is None:
        return [[0.0, 0.0, 0.0]] * len(said.names)
    if isinstance(value, str):
        value = value.replace(",", " ").split()
    if value and not isinstance(value[0], (list, dict)) and value[0] is not None:
        wide = len(value) // len(said.names)
        value = [value[n : n + wide] for n in range(0, len(value), max(wide, 1))]
    if len(value) != len(said.names):
        raise DatasetError(f"{place}: {len(said.names)} keypoints are expected, and there are {len(value)}")
    visible = value_of(said.visible, row, names) if said.visible else None
    found = []
    for n, each in enumerate(value):
        each = [each.get("x"), each.get("y"), each.get("visible", each.get("v"))] if isinstance(each, dict) else list(each or [])
        if len(each) < 2 or each[0] in (None, "") or each[1] in (None, ""):
            found.append([0.0, 0.0, 0.0])
            continue
        seen = visible[n] if isinstance(visible, list) and n < len(visible) else each[2] if len(each) > 2 and each[2] is not None else 2
        level = min(max(int(number(seen, place)), 0), 2) if not isinstance(visible, list) else (2 if number(seen, place) > 0 else 0)
        x, y = at([number(each[0], place), number(each[1], place)])[0].tolist()
        found.append([x, y, float(level)])
    return found
