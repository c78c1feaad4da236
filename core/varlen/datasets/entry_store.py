"""A dataset's images by key: in memory when they are few, in a file when they are many.

Labels of a hundred thousand images would fill the memory of every worker. Beyond `FEW` they
lie in a temporary file, of which each process reads what it needs; keys and places stay.
"""

from __future__ import annotations

import itertools
import os
import pickle
import shutil
import tempfile
import weakref
from array import array
from collections import OrderedDict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import chain, islice
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.packed_strings import PackedStrings, SelectedStrings

if TYPE_CHECKING:
    from varlen.datasets.entry import Entry

#: Up to so many images are kept in memory.
FEW = 2000
#: Of the others, so many as were read last; likewise of their places.
HELD = 64


def entries_of(entries: Iterable[Entry]) -> Mapping[str, Entry]:
    """The images in the order of their keys."""
    incoming = iter(entries)
    first = list(islice(incoming, FEW + 1))
    if len(first) <= FEW:
        return {entry.key: entry for entry in sorted(first, key=lambda entry: entry.key)}
    return StoredEntries.write(chain(first, incoming))


class StoredEntries(Mapping[str, "Entry"]):
    """Images in a file, unpickled when asked for. The file goes when the object that wrote it goes."""

    def __init__(self, path: Path, keys: PackedStrings, places: array[int], splits: list[str], split_of: NDArray[np.int16]) -> None:
        """keys: sorted; places: where each key's image begins and ends, in bytes, two by two; splits, split_of: each key's split."""
        self.path, self._keys, self._places, self._splits, self._split_of = path, keys, places, splits, split_of
        self._open()

    @classmethod
    def write(cls, entries: Iterable[Entry]) -> StoredEntries:
        """Put images into a temporary file; of two with one key the later counts."""
        with tempfile.NamedTemporaryFile(prefix="varlen-entries-", delete=False) as out:
            keys, ends, split_of = PackedStrings(), array("Q", [0]), array("h")
            splits: dict[str, int] = {}
            for entry in entries:
                data = pickle.dumps(entry, pickle.HIGHEST_PROTOCOL)
                out.write(data)
                keys.append(entry.key)
                ends.append(ends[-1] + len(data))
                split_of.append(splits.setdefault(entry.split, len(splits)))
        bounds, of_split = np.array(ends, np.uint64), np.array(split_of, np.int16)
        if not keys.increasing():
            # By key, and of equal keys the one that came last.
            order = keys.order()
            last = np.fromiter((keys[a] != keys[b] for a, b in itertools.pairwise(order)), np.bool_, len(order) - 1)
            order = order[np.append(last, True)]
            keys, of_split = keys.taken(order), of_split[order]
            pairs = np.stack([bounds[order], bounds[order + 1]], 1)
        else:
            pairs = np.stack([bounds[:-1], bounds[1:]], 1)
        made = cls(Path(out.name), keys, array("Q", pairs.tobytes()), list(splits), of_split)
        weakref.finalize(made, Path(out.name).unlink, missing_ok=True)
        return made

    def copied(self, path: Path) -> StoredEntries:
        """The same images in a file of someone else's, such as one that other machines see."""
        shutil.copyfile(self.path, path)
        return StoredEntries(path, *self.__getstate__()[1:])

    def _open(self) -> None:
        # Read, not mapped: pages of a mapped file would count as this process's memory.
        self._file = self.path.open("rb", buffering=0)
        self._held: OrderedDict[int, Entry] = OrderedDict()
        self._met: dict[str, int] = {}

    def __getstate__(self) -> tuple[Any, ...]:
        return self.path, self._keys, self._places, self._splits, self._split_of

    def __setstate__(self, state: tuple[Any, ...]) -> None:
        self.path, self._keys, self._places, self._splits, self._split_of = state
        self._open()

    def place(self, key: str) -> int:
        """Where a key stands among all. Raises `KeyError` when there is none such."""
        found = self._met.get(key)
        if found is None:
            found = self._keys.find(key)
            if found < 0:
                raise KeyError(key)
            if len(self._met) >= HELD:
                self._met.clear()
            self._met[key] = found
        return found

    def __getitem__(self, key: str) -> Entry:
        place = self.place(key)
        if place in self._held:
            return self._held[place]
        begin, end = self._places[2 * place], self._places[2 * place + 1]
        entry: Entry = pickle.loads(os.pread(self._file.fileno(), end - begin, begin))
        self._held[place] = entry
        if len(self._held) > HELD:
            self._held.popitem(last=False)
        return entry

    def __contains__(self, key: object) -> bool:
        return isinstance(key, str) and self._keys.find(key) >= 0

    def __iter__(self) -> Iterator[str]:
        return iter(self._keys)

    def __len__(self) -> int:
        return len(self._keys)

    def split_of(self, key: str) -> str:
        """An image's split, without reading the image."""
        return self._splits[int(self._split_of[self.place(key)])]

    def by_split(self) -> dict[str, Sequence[str]]:
        """The keys of every split, in order."""
        places = {split: np.flatnonzero(self._split_of == number).astype(np.int32) for number, split in enumerate(self._splits)}
        return {split: SelectedStrings(self._keys, found) for split, found in places.items() if len(found)}
