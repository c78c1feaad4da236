"""Rows and records of label files that a reading recipe describes: text in columns, tables, blocks, JSON, JSON lines, XML."""

from __future__ import annotations

import csv
import json
import math
import re
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

import xmltodict

from varlen.datasets.recipes import LabelFiles, compiled
from varlen.datasets.sources import SourceFiles
from varlen.errors import DatasetError

#: No label file is larger, bytes.
LARGEST = 256 << 20
_LINES = (".jsonl", ".ndjson")
_NUMBER = re.compile(r"[-+]?(\d+\.?\d*|\.\d+)([eE][-+]?\d+)?")

#: A row or record with the place it stands at, for messages.
Placed = tuple[str, dict[str, Any]]


def rows_of(files: SourceFiles, path: str, kind: LabelFiles) -> Iterator[Placed]:
    """Every row or record of a label file. Raises `DatasetError` with file and line."""
    data = files.read(path)
    if len(data) > LARGEST:
        raise DatasetError(f"{path}: {len(data)} bytes are too many for a label file")
    lower = path.lower()
    if lower.endswith((".xml", ".svg")):
        yield from _found(path, kind, _xml(path, data))
        return
    text = data.decode("utf-8-sig", "replace").replace("\0", " ")
    if lower.endswith(_LINES):
        for number, line in enumerate(text.split("\n"), 1):
            if line.strip():
                yield from _found(f"{path}, line {number}", kind, _json(f"{path}, line {number}", line))
    elif lower.endswith((".json", ".geojson")) or (not kind.columns and text.lstrip()[:1] in ("{", "[")):
        yield from _found(path, kind, _json(path, text))
    else:
        try:
            yield from (_blocks if kind.block else _lines)(path, kind, text)
        except csv.Error as error:
            raise DatasetError(f"{path}: not a table ({error})") from None


def joined(parts: Iterable[Iterable[Placed]], by: str) -> Iterator[Placed]:
    """Rows of several files as one where the field `by` is the same, in the order of the first file."""
    found: dict[str, dict[str, Any]] = {}
    places: dict[str, str] = {}
    for part in parts:
        for place, row in part:
            if by not in row:
                raise DatasetError(f"{place}: there is no column {by!r} to join by")
            found.setdefault(str(row[by]), {}).update(row)
            places.setdefault(str(row[by]), place)
    yield from ((places[value], row) for value, row in found.items())


def value_of(field: str, row: Mapping[str, Any], said: Mapping[str, str]) -> Any:
    """What a field holds: a column or key of that name, a {name} of the path, or what the expression finds; None for nothing."""
    if field in row:
        return row[field]
    if field in said:
        return said[field]
    expression = compiled(field)
    try:
        return expression.search(row) if expression is not None else None
    except (ValueError, TypeError, ArithmeticError) as error:
        raise DatasetError(f"{field!r} can't be worked out: {str(error).splitlines()[0][:100]}") from None


def root_of(field: str, row: Mapping[str, Any]) -> str:
    """The key of a record that an expression begins with."""
    found = re.match(r"[A-Za-z_]\w*", field)
    return field if field in row or found is None else found[0]


def rows_in(value: Any, place: str) -> list[dict[str, Any]]:
    """The objects that an expression found: a list of them, one alone, or lists that hold a column each. Raises `DatasetError`."""
    if value is None:
        return []
    if isinstance(value, dict):
        lists = {name: each for name, each in value.items() if isinstance(each, list)}
        lengths = {len(each) for each in lists.values()}
        if lists and len(lists) == len(value):
            if len(lengths) > 1:
                raise DatasetError(f"{place}: the lists of its objects differ in length: {', '.join(map(str, sorted(lengths)))}")
            return [dict(zip(lists, each, strict=True)) for each in zip(*lists.values(), strict=True)]
        return [value]
    if isinstance(value, list) and all(isinstance(each, dict) for each in value):
        return value
    raise DatasetError(f"{place}: its objects are no list of objects but {str(value)[:60]}")


def plain(text: Any) -> Any:
    """A column's text as a number where it is one."""
    if not isinstance(text, str) or not _NUMBER.fullmatch(text) or len(text) > 30:
        return text
    if text.lstrip("+-").isdigit():
        return int(text)
    return float(text) if math.isfinite(float(text)) else text


def _found(place: str, kind: LabelFiles, value: Any) -> Iterator[Placed]:
    try:
        found = compiled(kind.each).search(value)
    except (ValueError, TypeError, AttributeError) as error:
        raise DatasetError(f"{place}: {kind.each!r} can't be worked out: {str(error).splitlines()[0][:100]}") from None
    for number, each in enumerate(found if isinstance(found, list) else [found], 1):
        if isinstance(each, dict):
            yield (f"{place}: item {number}" if isinstance(found, list) else place), each
        elif each is not None:
            raise DatasetError(f"{place}: {kind.each!r} finds {str(each)[:40]!r}, which is no record")


def _json(place: str, text: str) -> Any:
    try:
        return json.loads(text, parse_constant=lambda word: None)
    except (ValueError, RecursionError) as error:
        raise DatasetError(f"{place}: not JSON ({str(error)[:100]})") from None


def _xml(path: str, data: bytes) -> Any:
    try:
        return xmltodict.parse(data, disable_entities=True)
    except Exception as error:  # the parser below raises kinds of its own
        raise DatasetError(f"{path}: not XML ({str(error)[:100]})") from None


def _lines(path: str, kind: LabelFiles, text: str) -> Iterator[Placed]:
    names = kind.names
    for number, words in _words(kind, text):
        place = f"{path}, line {number}"
        if not names:
            names = [word.strip() for word in words]
            if len(set(names)) < len(names):
                raise DatasetError(f"{place}: two columns have one name; name them with `columns`")
            continue
        yield place, _row(place, names, words)


def _row(place: str, names: list[str], words: list[str]) -> dict[str, Any]:
    more = bool(names) and names[-1] == "*"
    wanted = len(names) - more
    if len(words) < wanted or (len(words) > wanted and not more):
        raise DatasetError(f"{place}: {wanted} columns{' or more' if more else ''} are expected, and there are {len(words)}")
    return {name: word.strip() for name, word in zip(names[:wanted], words, strict=False) if name != "_"}


def _words(kind: LabelFiles, text: str) -> Iterator[tuple[int, list[str]]]:
    """The words of every line by its number."""
    lines = text.splitlines()
    for number, line in enumerate(lines, 1):
        if number <= kind.skip_lines or not line.strip() or (kind.comment and line.lstrip().startswith(kind.comment)):
            continue
        yield number, _split(kind, line)


def _split(kind: LabelFiles, line: str) -> list[str]:
    separator = kind.separator
    if separator is None and not kind.columns:
        separator = max(",;\t", key=line.count)  # a table whose first line names its columns
    if separator is None or not separator.strip(" "):
        return line.split()
    if len(separator) > 1:
        return line.split(separator)
    return next(csv.reader([line], delimiter=separator), [])


def _blocks(path: str, kind: LabelFiles, text: str) -> Iterator[Placed]:
    """Lines of a field each, then rows: as many as `count` says, else until a line that does not begin with a number."""
    lines = [(number, line.strip()) for number, line in enumerate(text.splitlines(), 1) if number > kind.skip_lines and line.strip()]
    at = 0
    while at < len(lines):
        head = dict(zip(kind.block, (line for _, line in lines[at : at + len(kind.block)]), strict=False))
        place = f"{path}, line {lines[at][0]}"
        at += len(kind.block)
        if len(head) < len(kind.block):
            raise DatasetError(f"{place}: the file ends in the middle of a block")
        if "count" in kind.block:
            if not head["count"].isdecimal() or len(head["count"]) > 7:
                raise DatasetError(f"{place}: the count of a block's rows is expected, not {head['count'][:40]!r}")
            count = int(head["count"])
            if not count and at < len(lines) and set(lines[at][1].split()) == {"0"}:
                at += 1  # a row of zeros stands for none
        else:
            count = next((n for n, (_, line) in enumerate(lines[at:]) if not _NUMBER.match(line)), len(lines) - at)
        if not count:
            yield place, head
        for number, line in lines[at : at + count]:
            yield f"{path}, line {number}", {**head, **_row(f"{path}, line {number}", kind.names, _split(kind, line))}
        at += count


def is_empty_block(kind: LabelFiles, row: Mapping[str, Any]) -> bool:
    """Whether a row is a block's head alone: a picture without objects."""
    return bool(kind.block) and len(row) == len(kind.block)
