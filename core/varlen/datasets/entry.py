"""The images of a dataset with their labels: in memory when they are few, in a SQLite file when they are many.

Labels of a hundred thousand images would fill the memory of every worker. Beyond `FEW` they lie in a temporary file, of which each
process reads what it needs.
"""

from __future__ import annotations

import os
import pickle
import shutil
import sqlite3
import tempfile
import weakref
from array import array
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from itertools import chain, islice
from pathlib import Path
from typing import Any, overload

from varlen.model.geometry import Size
from varlen.model.objects import Objects


def group_in(extra: dict[str, Any], name: str = "group") -> str:
    """The group that the field `name` among a source's own fields says, "" where it says none."""
    group = extra.get(name)
    return str(group) if isinstance(group, (str, int)) else ""


@dataclass(frozen=True, slots=True)
class Entry:
    """One image of a dataset: its key (path within the dataset), split, upright size and objects.

    group: the name of the group of images that belong together, such as the frames of a
    clip, "" for an image without one; classes: image-level classes; label_map: the path of a
    picture file whose levels are the classes of the pixels, "" where there is none.
    """

    key: str
    split: str
    size: Size
    objects: Objects
    extra: dict[str, Any] = field(default_factory=dict)
    group: str = ""
    classes: tuple[str, ...] = ()
    label_map: str = ""

    def labels(self, classes: Sequence[str]) -> list[str]:
        """The image's own classes and those of its objects, by name. classes: the dataset's."""
        return [*self.classes, *(classes[number] for number in self.objects.classes.tolist())]


#: Up to so many images are kept in memory.
FEW = 2000
#: Of the others, so many as were read last.
HELD = 256
_TABLE = "create table entry (place integer primary key, key blob not null, split text not null, body blob not null)"


def entries_of(entries: Iterable[Entry]) -> Mapping[str, Entry]:
    """The images in the order of their keys; of two with one key the later counts."""
    incoming = iter(entries)
    first = list(islice(incoming, FEW + 1))
    if len(first) <= FEW:
        return {entry.key: entry for entry in sorted(first, key=lambda entry: entry.key)}
    return StoredEntries.write(chain(first, incoming))


def _stored(key: str) -> bytes:
    """A key as the file holds it: UTF-8 sorts as its characters do."""
    return key.encode("utf-8", "surrogatepass")


class _Reader:
    """The file, opened anew by every process: a connection must not be used by a copy of the process that made it."""

    def __init__(self, path: Path) -> None:
        self.path, self._process = path, 0

    def ask(self, question: str, *values: object) -> sqlite3.Cursor:
        if self._process != os.getpid():
            self._database = sqlite3.connect(f"{self.path.absolute().as_uri()}?immutable=1", uri=True, check_same_thread=False)
            self._process = os.getpid()
        return self._database.execute(question, values)

    def entry(self, place: int) -> Entry:
        entry: Entry = pickle.loads(self.ask("select body from entry where place = ?", place).fetchone()[0])
        return entry

    def place_and_split(self, key: str) -> tuple[int, str]:
        found = self.ask("select place, split from entry where key = ?", _stored(key)).fetchone()
        if found is None:
            raise KeyError(key)
        return int(found[0]), str(found[1])


class StoredEntries(Mapping[str, "Entry"]):
    """Images in a file, unpickled when asked for. The file goes when the object that wrote it goes."""

    def __init__(self, path: Path) -> None:
        self.path = path
        reader = _Reader(path)
        self._ask, self._entry, self._place = reader.ask, lru_cache(HELD)(reader.entry), lru_cache(HELD)(reader.place_and_split)

    @classmethod
    def write(cls, entries: Iterable[Entry]) -> StoredEntries:
        """Put images into a temporary file."""
        handle, name = tempfile.mkstemp(prefix="varlen-entries-")
        os.close(handle)
        made = cls(Path(name))
        weakref.finalize(made, made.path.unlink, missing_ok=True)
        database = sqlite3.connect(name)
        try:
            database.executescript(f"pragma journal_mode = off; pragma synchronous = off; {_TABLE}")
            rows = ((_stored(entry.key), entry.split, pickle.dumps(entry, pickle.HIGHEST_PROTOCOL)) for entry in entries)
            database.executemany("insert into entry (key, split, body) values (?, ?, ?)", rows)
            database.execute("create index by_key on entry (key, place, split)")
            database.execute(
                "delete from entry where exists (select 1 from entry as other where other.key = entry.key and other.place > entry.place)"
            )
            database.commit()
        finally:
            database.close()
        return made

    def copied(self, path: Path) -> StoredEntries:
        """The same images in another file, such as one that other machines see."""
        shutil.copyfile(self.path, path)
        return StoredEntries(path)

    def __reduce__(self) -> tuple[type[StoredEntries], tuple[Path]]:
        return StoredEntries, (self.path,)

    def place(self, key: str) -> int:
        """A number of the image's own, below `places`. Raises `KeyError` for a key that is not there."""
        return self._place(key)[0]

    @property
    def places(self) -> int:
        """Every image's `place` is below this."""
        return int(self._ask("select coalesce(max(place), -1) + 1 from entry").fetchone()[0])

    def __getitem__(self, key: str) -> Entry:
        return self._entry(self.place(key))

    def __contains__(self, key: object) -> bool:
        return isinstance(key, str) and self._ask("select 1 from entry where key = ?", _stored(key)).fetchone() is not None

    def __iter__(self) -> Iterator[str]:
        return (key.decode("utf-8", "surrogatepass") for (key,) in self._ask("select key from entry order by key"))

    def __len__(self) -> int:
        return int(self._ask("select count(*) from entry").fetchone()[0])

    def split_of(self, key: str) -> str:
        """An image's split, without reading the image."""
        return self._place(key)[1]

    def by_split(self) -> dict[str, Sequence[str]]:
        """The keys of every split, in order."""
        places: dict[str, array[int]] = {}
        for place, split in self._ask("select place, split from entry order by key"):
            places.setdefault(split, array("I")).append(place)
        return {split: StoredKeys(self, found) for split, found in places.items()}

    def key_at(self, place: int) -> str:
        """The key of the image with this `place`."""
        key: bytes = self._ask("select key from entry where place = ?", place).fetchone()[0]
        return key.decode("utf-8", "surrogatepass")


class StoredKeys(Sequence[str]):
    """Some of the keys in a file, each read when asked for."""

    def __init__(self, entries: StoredEntries, places: array[int]) -> None:
        self._entries, self._places = entries, places

    def __len__(self) -> int:
        return len(self._places)

    @overload
    def __getitem__(self, number: int) -> str: ...
    @overload
    def __getitem__(self, number: slice) -> list[str]: ...
    def __getitem__(self, number: int | slice) -> str | list[str]:
        if isinstance(number, slice):
            return [self._entries.key_at(place) for place in self._places[number]]
        return self._entries.key_at(self._places[number])
