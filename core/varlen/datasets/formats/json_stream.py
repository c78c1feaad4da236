"""A large JSON object read piece by piece: the items of its long lists one at a time, all else whole.

Memory is bound by the largest item, not by the file. Our own, because annotation files hold NaN, which the package ijson (3.6, with either
of its parsers) refuses, as it refuses a byte-order mark; both are in files that people have.
"""

from __future__ import annotations

import io
import json
from collections.abc import Iterator
from typing import Any, BinaryIO

import orjson

from varlen.errors import DatasetError

CHUNK = 1 << 18
LARGEST_ITEM = 64 << 20
_SPACE = " \t\r\n"
_AFTER = frozenset(" \t\r\n,:]}")
#: How much must be waiting before many items are taken at once.
MANY = 1 << 16


#: Some programs write NaN; where a number is wanted, None is refused like any other that is none.
_decode = json.JSONDecoder(parse_constant=lambda word: None).raw_decode


def pieces(stream: BinaryIO, path: str, lists: frozenset[str]) -> Iterator[tuple[str, Any]]:
    """Name and value of each item of the `lists`, and of every other value, in the file's order.

    Each of the `lists` begins with None in place of a value. Raises `DatasetError` naming `path`
    when it is not a JSON object or one of the `lists` is no list.
    """
    try:
        with io.TextIOWrapper(stream, "utf-8-sig") as text:
            yield from _Reader(text, path).object(lists)
    except UnicodeDecodeError:
        raise DatasetError(f"{path}: not JSON (not UTF-8 text)") from None


class _Reader:
    def __init__(self, text: io.TextIOWrapper, path: str) -> None:
        self.text, self.path = text, path
        self.buffer, self.at, self.ended = "", 0, False
        self.failed = 0

    def object(self, lists: frozenset[str]) -> Iterator[tuple[str, Any]]:
        if self._next() != "{":
            raise DatasetError(f"{self.path}: expected an object with images, annotations and categories")
        self.at += 1
        while self._next() != "}":
            name = self._value()
            if not isinstance(name, str):
                raise self._broken("a name is not text")
            self._take(":")
            if name in lists:
                yield name, None
                for value in self._items(name):
                    if not isinstance(value, dict):
                        raise DatasetError(f"{self.path}: {name} must be a list of objects")
                    yield name, value
            else:
                yield name, self._value()
            if self._next() != "}":
                self._take(",")

    def _items(self, name: str) -> Iterator[Any]:
        if self._next() != "[":
            raise DatasetError(f"{self.path}: {name} must be a list of objects")
        self.at += 1
        between, self.failed = "", 0  # between two items, as this file writes it
        while self._next() != "]":
            many = self._many(between)
            yield from many
            if not many:
                yield self._value()
            if self._next() != "]":
                end = self.at
                self._take(",")
                if self._next() == "{" and self.at > end:
                    between = f"}}{self.buffer[end : self.at]}{{"
        self.at += 1

    def _many(self, between: str) -> list[Any]:
        """All whole items that are waiting, decoded at once; none where that can't be told quickly.

        What stands before the text between two items is a run of whole items exactly if it is a list's
        content: where that text stands within an item, a bracket is left open.
        """
        if not between or len(self.buffer) - self.at < MANY or self.failed > 3:
            return []
        end = self.buffer.rfind(between, self.at)
        for _ in range(3):
            if end <= self.at:
                break
            try:
                found: list[Any] = orjson.loads(f"[{self.buffer[self.at : end + 1]}]")
            except orjson.JSONDecodeError:
                end = self.buffer.rfind(between, self.at, end)
                continue
            self.at = end + 1
            return found
        self.failed += 1
        return []

    def _value(self) -> Any:
        """The value that begins here; more of the file is read until it is whole."""
        self._next()
        while True:
            try:
                value, end = _decode(self.buffer, self.at)
            except json.JSONDecodeError as error:
                if self.ended:
                    raise self._broken(str(error)) from None
                self._more()
            except (RecursionError, ValueError) as error:
                raise self._broken("nested too deeply" if isinstance(error, RecursionError) else str(error)) from None
            else:
                # A number may go on in the next chunk: "0" or "0." of 0.5.
                if self.ended or self.buffer[end : end + 1] in _AFTER:
                    self.at = end
                    return value
                self._more()

    def _next(self) -> str:
        """The next character that is not space; it is not passed. Raises `DatasetError` at the end of the file."""
        while True:
            while self.at < len(self.buffer) and self.buffer[self.at] in _SPACE:
                self.at += 1
            if self.at < len(self.buffer):
                return self.buffer[self.at]
            if self.ended:
                raise self._broken("it ends too early")
            self._more()

    def _take(self, wanted: str) -> None:
        if self._next() != wanted:
            raise self._broken(f"expected {wanted!r}, not {self.buffer[self.at : self.at + 20]!r}")
        self.at += 1

    def _more(self) -> None:
        """Read on, each time more for the same item, so that a long one isn't tried too often."""
        left = len(self.buffer) - self.at
        if left > LARGEST_ITEM:
            raise self._broken(f"one value is longer than {LARGEST_ITEM >> 20} million characters, or never ends")
        found = self.text.read(max(CHUNK, left))
        self.ended = not found
        self.buffer, self.at = self.buffer[self.at :] + found, 0

    def _broken(self, why: str) -> DatasetError:
        return DatasetError(f"{self.path}: not JSON ({why})")
