"""A first draft of a reading recipe, from the label files that nothing read: what its columns or keys seem to hold."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

import xmltodict

from varlen.datasets.formats.rows import plain
from varlen.datasets.formats.tree import Tree
from varlen.datasets.formats.words import columns_of
from varlen.datasets.splits import SPLIT_WORDS
from varlen.errors import DatasetError

#: Lines that are looked at, and characters of a JSON file.
LINES, LARGEST = 200, 32 << 20
#: Rows that are shown with a draft.
SHOWN = 8
#: So many different values at most are classes.
MOST_CLASSES = 300
#: What a box's last two numbers are called.
BOX_ENDS = {"corners": ("x_max", "y_max"), "corner-size": ("width", "height")}


class Draft(NamedTuple):
    """A recipe as far as it can be told, the file it was drawn from, that file's first rows, and what is left to say."""

    recipe: dict[str, Any]
    file: str
    rows: list[list[str]]
    missing: list[str]

    def to_json(self) -> dict[str, Any]:
        """As plain values."""
        return {"recipe": self.recipe, "file": self.file, "rows": self.rows, "missing": self.missing}


def draft_of(tree: Tree, asked: Sequence[str]) -> Draft:
    """A draft for the first of the files that could hold labels. Raises `DatasetError` where none of them is text."""
    for path in asked:
        head = tree.head(path, 200_000)
        if head and b"\0" not in head and not path.lower().endswith((".png", ".bmp", ".jpg", ".jpeg", ".tif", ".tiff", ".gif", ".webp")):
            break
    else:
        raise DatasetError(f"{tree.files.label}: there is no text, table, JSON or XML that nothing reads: nothing to draft a recipe for")
    files, pictures, own = _patterns(tree, path)
    recipe: dict[str, Any] = {"varlen_reading": 1, "name": f"labels in {path.rsplit('/', 1)[-1]}", "pictures": pictures, "labels": {"files": files}}
    text = head.decode("utf-8-sig", "replace")
    if path.lower().endswith((".json", ".geojson", ".jsonl", ".ndjson", ".xml")) or text.lstrip()[:1] in ("{", "["):
        rows = _nested(tree, path, recipe, own)
    else:
        rows = _table(tree, text, recipe, own)
    missing = [word for word in ("class", "box") if word not in recipe and not (word == "box" and "outline" in recipe)]
    if not own and "picture" not in recipe:
        missing.append("picture")
    return Draft(recipe, path, rows, missing)


def _patterns(tree: Tree, path: str) -> tuple[str, str, bool]:
    """Patterns of the label files like this one and of their pictures; whether each is of one picture."""
    key = tree.picture_for(path)
    if key is None:
        return path, "{any}", False
    return _named(path), _named(key), True


def _named(path: str) -> str:
    parts = path.split("/")
    name, dot, suffix = parts[-1].rpartition(".")
    split = next((place for place, part in enumerate(parts[:-1]) if part.lower() in SPLIT_WORDS), None)
    if split is not None:
        parts[split] = "{split}"
    parts[-1] = "{name}" + dot + suffix if name else "{name}"
    return "/".join(parts)


def _table(tree: Tree, text: str, recipe: dict[str, Any], own: bool) -> list[list[str]]:
    """Columns of a text, put into the recipe; its first rows."""
    lines = [line for line in text.splitlines()[:LINES] if line.strip() and not line.lstrip().startswith(("#", "//"))]
    if any(line.lstrip().startswith("#") for line in text.splitlines()[:LINES]):
        recipe["labels"]["comment"] = "#"
    separator = max((each for each in "\t,;|" if lines and all(each in line for line in lines)), key=lambda each: lines[0].count(each), default=None)
    if separator:
        recipe["labels"]["separator"] = separator
    rows = [[word.strip() for word in (line.split(separator) if separator else line.split())] for line in lines]
    head = None
    is_head = len(rows) > 1 and not any(map(_is_number, rows[0])) and any(map(_is_number, rows[1])) and len(set(rows[0])) == len(rows[0])
    if is_head:
        head, rows = [re.sub(r"\W+", "_", word).strip("_") or f"column_{n + 1}" for n, word in enumerate(rows[0])], rows[1:]
        recipe["labels"]["skip_lines"] = 1
    wide = min(map(len, rows), default=0)
    columns = [[row[n] for row in rows] for n in range(wide)]
    names = head[:wide] if head and len(head) >= wide else [f"column_{n + 1}" for n in range(wide)]
    meanings = columns_of(names) if head else {}
    used: dict[int, str] = {}
    picture = None if own else _first(n for n in range(wide) if sum(tree.named(word) is not None for word in columns[n]) > 0.7 * len(rows))
    if picture is not None:
        used[picture] = "picture"
        recipe["picture"] = "picture"
    numbers = [all(_is_number(word) for word in column) for column in columns]
    box = _box(columns, numbers, [n for n in range(wide) if n not in used], names, meanings)
    if box is not None:
        at, form, unit = box
        words = ("x", "y", "width", "height") if form == "centre-size" else ("x_min", "y_min", *BOX_ENDS[form])
        used |= dict(zip(at, words, strict=True))
        recipe["box"] = list(words)
        recipe |= {"box_form": form} if form != "corners" else {}
        recipe |= {"unit": unit} if unit != "pixels" else {}
    free = [n for n in range(wide) if n not in used]
    named = names.index(meanings["label"]) if "label" in meanings else None
    label = named if named in free else _first(n for n in free if not numbers[n] and len(set(columns[n])) <= MOST_CLASSES)
    if label is None:
        label = _first(n for n in free if all(word.isdecimal() for word in columns[n]) and len(set(columns[n])) <= min(100, max(len(rows) // 2, 1)))
    if label is not None:
        used[label] = "class"
        recipe["class"] = "class"
    recipe["labels"]["columns"] = " ".join([*(used.get(n, names[n]) for n in range(wide)), *(["*"] if max(map(len, rows), default=0) > wide else [])])
    return rows[:SHOWN]


def _box(
    columns: list[list[str]], numbers: list[bool], free: list[int], names: list[str], meanings: dict[str, str]
) -> tuple[list[int], str, str] | None:
    """Which columns are a box, in which form and unit: as their names say, else the first four numbers in a row that can be one."""
    for words, form in ((("x1", "y1", "x2", "y2"), "corners"), (("xc", "yc", "w", "h"), "centre-size"), (("x", "y", "w", "h"), "corner-size"),
                        (("x1", "y1", "w", "h"), "corner-size")):  # fmt: skip
        if all(word in meanings for word in words):
            at = [names.index(meanings[word]) for word in words]
            return at, form, "shares" if _largest(columns, at) <= 1 else "pixels"
    for first in free:
        at = list(range(first, first + 4))
        if any(n not in free or not numbers[n] for n in at) or not columns[first]:
            continue
        rows = list(zip(*([float(word) for word in columns[n]] for n in at), strict=True))
        if len(set(rows)) < 2 < len(rows) or any(min(row[2:]) < 0 for row in rows) or all(row[:2] == (0, 0) for row in rows):
            continue
        unit = "shares" if _largest(columns, at) <= 1 else "pixels"
        if unit == "pixels" and any(_largest(columns, [n]) <= 1 and any("." in word for word in columns[n]) for n in at):
            continue  # a score or a share beside pixels
        is_corners = all(c >= a and d >= b for a, b, c, d in rows)
        return at, "corners" if is_corners else "centre-size" if unit == "shares" else "corner-size", unit
    return None


def _largest(columns: list[list[str]], at: list[int]) -> float:
    return max((abs(float(word)) for n in at for word in columns[n] if _is_number(word)), default=0.0)


def _nested(tree: Tree, path: str, recipe: dict[str, Any], own: bool) -> list[list[str]]:
    """Keys of a JSON or XML file, put into the recipe; the first objects' keys and values."""
    data = tree.files.read(path)
    if len(data) > LARGEST:
        raise DatasetError(f"{path}: {len(data)} bytes are too many to draft a recipe for")
    try:
        if path.lower().endswith(".xml"):
            value = xmltodict.parse(data, disable_entities=True)
        elif path.lower().endswith((".jsonl", ".ndjson")):
            value = [json.loads(line) for line in data.decode("utf-8-sig").splitlines()[:LINES] if line.strip()]
        else:
            value = json.loads(data.decode("utf-8-sig"))
    except (ValueError, RecursionError) as error:
        raise DatasetError(f"{path}: neither JSON nor XML ({str(error)[:100]})") from None
    except Exception as error:  # the XML parser raises kinds of its own
        raise DatasetError(f"{path}: not XML ({str(error)[:100]})") from None
    lines = path.lower().endswith((".jsonl", ".ndjson"))
    where, records = ("@", [value]) if own else _records(tree, value)
    if where not in ("@", "[]") or (where == "[]" and not lines):
        recipe["each"] = where
    first = records[0] if records else {}
    if not own:
        key = _first(name for name, each in _leaves(first) if isinstance(each, str) and tree.named(each))
        if key is not None:
            recipe["picture"] = key
    items, found = _items(first)
    if items is not None:
        recipe["objects"] = items
    for item in found[:1]:
        leaves = dict(_leaves(item))
        meanings = {meaning: name for name in leaves for meaning in columns_of([name.rsplit(".", 1)[-1]])}
        if "label" in meanings:
            recipe["class"] = meanings["label"]
        for words, form in ((("x1", "y1", "x2", "y2"), "corners"), (("xc", "yc", "w", "h"), "centre-size"), (("x", "y", "w", "h"), "corner-size")):
            if all(word in meanings for word in words):
                recipe["box"] = [meanings[word] for word in words]
                recipe |= {"box_form": form} if form != "corners" else {}
                break
        else:
            if "box" in meanings and isinstance(leaves[meanings["box"]], list):
                recipe |= {"box": meanings["box"], "box_form": "corner-size"}
        if "points" in meanings:
            recipe["outline"] = meanings["points"]
    return [[name, json.dumps(each, ensure_ascii=False)[:100]] for item in found[:1] for name, each in _leaves(item)][: 3 * SHOWN]


def _records(tree: Tree, value: Any) -> tuple[str, list[dict[str, Any]]]:
    """Where the records of pictures are: the first list, or values of a mapping, of which one names a picture."""
    for where, each in _lists(value, ""):
        found = [record for record in each[:20] if isinstance(record, dict)]
        if found and any(isinstance(leaf, str) and tree.named(leaf) for record in found for _, leaf in _leaves(record)):
            return where, found
    return "@", [value] if isinstance(value, dict) else []


def _lists(value: Any, where: str, depth: int = 0) -> Iterator[tuple[str, list[Any]]]:
    if isinstance(value, list):
        yield where + "[]", value
    elif isinstance(value, dict) and depth < 4:
        if len(value) > 1 and all(isinstance(each, dict) for each in value.values()):
            yield (f"{where}.*" if where else "*"), list(value.values())
        for name, each in value.items():
            yield from _lists(each, f"{where}.{_word(name)}" if where else _word(name), depth + 1)


def _items(record: Any) -> tuple[str | None, list[dict[str, Any]]]:
    """The list of objects in a record and its expression; the record itself where it holds none."""
    if isinstance(record, dict):
        for where, each in _lists(record, ""):
            if each and isinstance(each[0], dict) and any(isinstance(plain(leaf), (int, float, list)) for _, leaf in _leaves(each[0])):
                return where, each
        return None, [record]
    return None, []


def _leaves(record: Any, where: str = "", depth: int = 0) -> Iterator[tuple[str, Any]]:
    if isinstance(record, dict) and depth < 4:
        for name, each in record.items():
            yield from _leaves(each, f"{where}.{_word(name)}" if where else _word(name), depth + 1)
    elif where:
        yield where, record


def _word(name: Any) -> str:
    """A key as an expression writes it."""
    text = str(name)
    return text if re.fullmatch(r"[A-Za-z_]\w*", text) else json.dumps(text)


def _is_number(word: str) -> bool:
    return isinstance(plain(word), (int, float))


def _first(found: Iterator[Any]) -> Any:
    return next(found, None)
