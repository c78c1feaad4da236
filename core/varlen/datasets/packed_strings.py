"""Many texts in little memory: paths of a hundred thousand images as one run of bytes."""

from __future__ import annotations

from array import array
from collections.abc import Iterable, Iterator, Sequence
from typing import overload

import numpy as np
from numpy.typing import NDArray

#: Texts up to this many bytes are sorted as columns of bytes; longer ones one by one.
SHORT = 200


class PackedTexts(Sequence[str]):
    """Texts that are decoded when asked for; a subclass says how many there are, and each by its place."""

    def _text(self, place: int) -> str:
        raise NotImplementedError

    @overload
    def __getitem__(self, place: int) -> str: ...
    @overload
    def __getitem__(self, place: slice) -> list[str]: ...
    def __getitem__(self, place: int | slice) -> str | list[str]:
        if isinstance(place, slice):
            return [self._text(each) for each in range(*place.indices(len(self)))]
        if not -len(self) <= place < len(self):
            raise IndexError(place)
        return self._text(place % len(self))

    def __iter__(self) -> Iterator[str]:
        return map(self._text, range(len(self)))


class PackedStrings(PackedTexts):
    """Texts side by side in UTF-8."""

    def __init__(self, texts: Iterable[str] = ()) -> None:
        self._bytes, self._ends = bytearray(), array("Q", [0])
        for text in texts:
            self.append(text)

    def append(self, text: str) -> None:
        """One more at the end."""
        self._bytes += text.encode("utf-8", "surrogatepass")
        self._ends.append(len(self._bytes))

    def __len__(self) -> int:
        return len(self._ends) - 1

    def _text(self, place: int) -> str:
        return self._bytes[self._ends[place] : self._ends[place + 1]].decode("utf-8", "surrogatepass")

    def order(self) -> NDArray[np.int64]:
        """Their places sorted by text; equal ones stay in turn. UTF-8 sorts as its characters do."""
        ends = np.array(self._ends, np.int64)
        if len(self) == 0 or (np.diff(ends) > SHORT).any():
            return np.array(sorted(range(len(self)), key=self._text), np.int64)
        # Filled up to one length in one go: a list of all would take several times their memory.
        lengths = np.diff(ends)
        columns = np.zeros((len(self), int(lengths.max(initial=1))), np.uint8)
        columns[np.arange(columns.shape[1]) < lengths[:, None]] = np.frombuffer(self._bytes, np.uint8)
        return np.argsort(columns.view(f"S{columns.shape[1]}")[:, 0], kind="stable")

    def increasing(self) -> bool:
        """Whether each is greater than the one before it."""
        raw, ends = self._bytes, self._ends
        return all(raw[ends[place - 1] : ends[place]] < raw[ends[place] : ends[place + 1]] for place in range(1, len(self)))

    def taken(self, places: Iterable[int]) -> PackedStrings:
        """Those at `places`, in that order."""
        return PackedStrings(map(self._text, places))

    def find(self, text: str) -> int:
        """The place of a text among sorted ones, -1 where it is not there."""
        wanted, raw, ends = text.encode("utf-8", "surrogatepass"), self._bytes, self._ends
        low, high = 0, len(ends) - 1
        while low < high:
            middle = (low + high) // 2
            if raw[ends[middle] : ends[middle + 1]] < wanted:
                low = middle + 1
            else:
                high = middle
        return low if low < len(self) and raw[ends[low] : ends[low + 1]] == wanted else -1


class SelectedStrings(PackedTexts):
    """Some of many texts, by their places."""

    def __init__(self, keys: PackedStrings, places: NDArray[np.int32]) -> None:
        self._keys, self._places = keys, places

    def __len__(self) -> int:
        return len(self._places)

    def _text(self, place: int) -> str:
        return self._keys[int(self._places[place])]
