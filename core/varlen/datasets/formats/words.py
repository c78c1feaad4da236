"""Words for the same thing in tables and JSON files: which column or key holds what, and how a box is written there."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.errors import DatasetError
from varlen.model.geometry import Size

#: What a column or key is read as, and the names it may have; case, spaces, dots, dashes and underscores don't count.
SYNONYMS: dict[str, tuple[str, ...]] = {
    "file": ("file", "filename", "filepath", "image", "imagename", "imagefile", "imagepath", "imgpath", "img", "path", "picture", "photo", "imageid"),
    "label": ("label", "class", "category", "classname", "categoryname", "labelname", "name", "species", "tag", "title"),
    "split": ("split", "subset", "set", "fold", "usage"),
    "x1": ("x1", "xmin", "left", "x0", "bboxxmin", "bboxx1", "minx"),
    "y1": ("y1", "ymin", "top", "y0", "bboxymin", "bboxy1", "miny"),
    "x2": ("x2", "xmax", "right", "bboxxmax", "bboxx2", "maxx"),
    "y2": ("y2", "ymax", "bottom", "bboxymax", "bboxy2", "maxy"),
    "x": ("x", "bboxx", "xleft", "boxx"),
    "y": ("y", "bboxy", "ytop", "boxy"),
    "xc": ("xc", "cx", "xcenter", "xcentre", "centerx", "centrex"),
    "yc": ("yc", "cy", "ycenter", "ycentre", "centery", "centrey"),
    "w": ("w", "boxwidth", "bboxwidth", "bboxw", "bw", "width"),
    "h": ("h", "boxheight", "bboxheight", "bboxh", "bh", "height"),
    "box": ("bbox", "box", "boundingbox", "rect", "rectangle"),
    "points": ("points", "polygon", "outline", "segmentation", "vertices", "coordinates", "coords", "exterior", "corners"),
    "picture_width": ("imagewidth", "imgwidth", "picturewidth"),
    "picture_height": ("imageheight", "imgheight", "pictureheight"),
}  # fmt: skip
_MEANINGS = {word: meaning for meaning, words in SYNONYMS.items() for word in words}


def plain_word(name: str) -> str:
    """A column's or key's name as it is compared."""
    return re.sub(r"[^a-z0-9]", "", name.lower())


def columns_of(names: Iterable[str]) -> dict[str, str]:
    """For each meaning the first of the names that has it. Where corners are there, width and height are the picture's."""
    found: dict[str, str] = {}
    for name in names:
        meaning = _MEANINGS.get(plain_word(name))
        if meaning is not None:
            found.setdefault(meaning, name)
    if {"x1", "y1", "x2", "y2"} <= found.keys():
        for plain, picture in (("w", "picture_width"), ("h", "picture_height")):
            if plain in found:
                found.setdefault(picture, found.pop(plain))
    return found


def fields_of(values: Mapping[str, Any], columns: Mapping[str, str]) -> dict[str, Any]:
    """What a row or item holds beside the meanings that are read; text of a number or of true and false as such."""
    read = set(columns.values())
    return {name: _plain(value) for name, value in values.items() if name not in read and value not in (None, "", [], {})}


def _plain(value: Any) -> Any:
    if not isinstance(value, str):
        return value
    if value.lower() in ("true", "false"):
        return value.lower() == "true"
    for kind in (int, float):
        try:
            found = kind(value[:30])
        except (ValueError, OverflowError):
            continue
        if str(found) == value:  # a number of leading zeros is a name
            return found
    return value


def box_of(values: Mapping[str, Any], columns: Mapping[str, str], place: str) -> list[float] | None:
    """The box of a row or item as x_min, y_min, x_max, y_max in its own unit; None where it has none. Raises `DatasetError`."""
    for names, corners in _FORMS:
        if all(name in columns for name in names):
            found = [values.get(columns[name]) for name in names]
            if all(value is None or value == "" for value in found):
                return None
            return corners(*(number(value, place) for value in found))
    if "box" in columns and values.get(columns["box"]) not in (None, "", []):
        return _packed_box(values[columns["box"]], place)
    return None


def _from_edge(x: float, y: float, w: float, h: float) -> list[float]:
    return [x, y, x + w, y + h]


def _from_centre(x: float, y: float, w: float, h: float) -> list[float]:
    return [x - w / 2, y - h / 2, x + w / 2, y + h / 2]


_FORMS = (
    (("x1", "y1", "x2", "y2"), lambda *values: list(values)),
    (("xc", "yc", "w", "h"), _from_centre),
    (("x", "y", "w", "h"), _from_edge),
    (("x1", "y1", "w", "h"), _from_edge),
)


def _packed_box(value: Any, place: str) -> list[float]:
    """A box in one value: an object with names, four numbers (left, top, width, height) or two corners."""
    if isinstance(value, dict):
        box = box_of(value, columns_of(value), place)
        if box is None:
            raise DatasetError(f"{place}: a box needs corners, or a corner with width and height, not {str(value)[:60]}")
        return box
    if isinstance(value, str):
        value = re.findall(r"[-+]?[0-9]*\.?[0-9]+(?:[eE][-+]?[0-9]+)?", value[:400])
    numbers = [number(each, place) for each in _flat(value)]
    if len(numbers) != 4:
        raise DatasetError(f"{place}: a box needs four numbers, not {str(value)[:60]}")
    nested = isinstance(value, Sequence) and value and isinstance(value[0], (list, tuple, dict))
    return numbers if nested else _from_edge(*numbers)


def points_of(value: Any, place: str) -> NDArray[np.float64]:
    """Points (N, 2) from pairs, from a flat list of numbers, or from objects with x and y. Raises `DatasetError`."""
    numbers = [number(each, place) for each in _flat(value)]
    if len(numbers) % 2 or not numbers:
        raise DatasetError(f"{place}: points must be pairs of x and y, not {str(value)[:60]}")
    return np.array(numbers, np.float64).reshape(-1, 2)


def _flat(value: Any, depth: int = 0) -> list[Any]:
    if isinstance(value, dict) and depth < 4:
        x, y = value.get("x", value.get("X")), value.get("y", value.get("Y"))
        return [x, y] if x is not None or y is not None else [each for part in value.values() for each in _flat(part, depth + 1)]
    if isinstance(value, (list, tuple)) and depth < 4:
        return [each for part in value for each in _flat(part, depth + 1)]
    return [value]


def number(value: Any, place: str) -> float:
    """A finite number. Raises `DatasetError` for anything else."""
    try:
        found = float(value)
    except (TypeError, ValueError, OverflowError):
        raise DatasetError(f"{place}: expected a number, not {str(value)[:40]!r}") from None
    if not abs(found) < 1e9 or isinstance(value, bool):
        raise DatasetError(f"{place}: {str(value)[:40]} is no coordinate")
    return found


def in_pixels(box: list[float], size: Size, fractions: bool) -> list[float]:
    """A box in pixels. fractions: it is written in shares of the picture's sides."""
    return [value * side for value, side in zip(box, (*size, *size), strict=True)] if fractions else box
