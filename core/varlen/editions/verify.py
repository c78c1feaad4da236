"""Checking an edition against its own record, and the record against itself: every file, every count, and nothing else."""

from __future__ import annotations

import hashlib
import os
import stat
import tempfile
from array import array
from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypedDict

import numpy as np
from numpy.typing import NDArray

from varlen.atomic_files import file_digest
from varlen.datasets.formats.base import repeated, short_hash
from varlen.editions.record import CARD, DIGESTED, RECORD, ROWS, SCORES, SIGNATURE, SOURCES, EditionRecord, OutputDigest, read_record, record_digest
from varlen.editions.rows import Row, read_rows
from varlen.editions.signature import signature_problem
from varlen.errors import EditionError, PipelineError, VarlenError
from varlen.pipeline.document import from_json
from varlen.stores import AT_ONCE, Store, url_of

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey


class Problem(TypedDict):
    """Something about an edition that is not as it was when it was made. file: its path within the edition."""

    file: str
    problem: str


#: Paths with the SHA-256 that their files should have.
Expected = list[tuple[str, str]]
#: Files that are checked at a time.
BATCH = 512
#: What damaged records bring about where their shape is relied on.
_MALFORMED = (KeyError, TypeError, ValueError, AttributeError, IndexError, OverflowError)


def verify(folder: Path, progress: Callable[[], None] = lambda: None, record: str = "", key: Ed25519PublicKey | None = None) -> list[Problem]:
    """Everything that was changed, is missing or was added; empty when all is well.

    record: the record digest that the export printed; a consistent rewrite of the edition would change it; key: the owner's, who must have
    signed the edition. Raises `EditionError` where there is no record to check.
    """
    url = url_of(folder)
    found = _verify_stored(Store(url), progress, record) if url else _verify_folder(folder, progress, record)
    if key is not None and (wrong := signature_problem(folder, key)):
        found.append({"file": SIGNATURE, "problem": wrong})
    return found


def _verify_folder(folder: Path, progress: Callable[[], None], record: str) -> list[Problem]:
    said = read_record(folder)
    try:
        return list(_problems(folder, said, progress, record))
    except _MALFORMED as error:
        return [{"file": RECORD, "problem": f"malformed ({type(error).__name__}: {str(error)[:100]})"}]


def _problems(folder: Path, said: EditionRecord, progress: Callable[[], None], given: str) -> Iterator[Problem]:
    yield from _record_problems(said, given)
    rows, wrong = _Rows(said), list[Problem]()
    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        yield from rows.read(folder, lambda some: wrong.extend(_file_problems(folder, some, pool, progress)))
    yield from _foreign(folder, rows.names, rows.folders)
    yield from sorted(wrong, key=lambda each: each["file"])
    yield from rows.disagreements()


def _record_problems(said: EditionRecord, given: str) -> Iterator[Problem]:
    """Whether the record is what it says of itself."""

    def wrong(text: str) -> Problem:
        return {"file": RECORD, "problem": text}

    found = record_digest(said)
    if "record_digest" in said and said["record_digest"] != found:
        yield wrong("changed since it was written: its record digest does not follow from it")
    if given and found != given:
        yield wrong(f"is not the record that was asked for: its digest is {found}")
    try:
        pipeline = from_json(said["pipeline"])
    except PipelineError as error:
        if not said.get("outside_steps"):
            yield wrong(f"its pipeline can't be read ({error.problems[0]})")
        return
    if pipeline.to_json() != said["pipeline"]:
        yield wrong("its pipeline is not in full form")
    if pipeline.digest != said["pipeline_digest"]:
        yield wrong("its pipeline is not the one that its pipeline digest names")
    if pipeline.seed != said["seed"]:
        yield wrong(f"its seed {said['seed']} is not its pipeline's, {pipeline.seed}")
    for name in DIGESTED:
        if name not in said:
            yield wrong(f"says nothing of {name}")


def _verify_stored(store: Store, progress: Callable[[], None], record: str) -> list[Problem]:
    """The same of an edition in an object store: record and rows are fetched, pictures are read where they are, several at once."""
    try:
        with tempfile.TemporaryDirectory() as place:
            for name in (RECORD, ROWS):
                (Path(place) / name).write_bytes(store.read(name))
            said = read_record(Path(place))
            rows, present, wrong = _Rows(said), set(store.listed()), list[Problem]()
            with ThreadPoolExecutor(AT_ONCE) as pool:
                read = rows.read(Path(place), lambda some: wrong.extend(_stored_problems(store, some, present, pool, progress)))
                found = [*_record_problems(said, record), *read]
        more: list[Problem] = [
            {"file": path, "problem": "not part of the edition"} for path in sorted(present - {RECORD, SCORES, SIGNATURE}) if not rows.names.has(path)
        ]
        return [*found, *more, *sorted(wrong, key=lambda each: each["file"]), *rows.disagreements()]
    except _MALFORMED as error:
        return [{"file": RECORD, "problem": f"malformed ({type(error).__name__}: {str(error)[:100]})"}]
    except VarlenError as error:
        raise EditionError(str(error)) from None


def _stored_problems(store: Store, some: Expected, present: set[str], pool: ThreadPoolExecutor, progress: Callable[[], None]) -> Iterator[Problem]:
    def digest(path: str) -> str:
        return hashlib.sha256(store.read(path)).hexdigest() if path in present else ""

    for (path, wanted), found in zip(some, pool.map(digest, [path for path, _ in some]), strict=True):
        if found != wanted:
            yield {"file": path, "problem": "missing" if path not in present else "changed since it was written"}
        progress()


class _Names:
    """Paths, remembered as eight bytes each, so that those of a million files fit into little memory; asked once all are there."""

    def __init__(self) -> None:
        self._added = array("q")

    def add(self, path: str) -> None:
        self._added.append(short_hash(path))

    @cached_property
    def _sorted(self) -> NDArray[np.int64]:
        return np.sort(np.array(self._added, np.int64))

    def has(self, path: str) -> bool:
        """Whether a path is among them."""
        wanted = short_hash(path)
        place = int(np.searchsorted(self._sorted, wanted))
        return place < len(self._sorted) and int(self._sorted[place]) == wanted

    def twice(self) -> set[int]:
        """Hashes of the paths that come more than once."""
        return repeated(self._sorted)


class _Rows:
    """The rows of an edition, and what they add up to."""

    def __init__(self, said: EditionRecord) -> None:
        self.said = said
        self.names = _Names()
        self.folders: set[str] = set()
        self._waiting: Expected = []
        for path, digest in said["files"].items():
            self._expect(path, digest)
        if "source_labels" in said:
            self._expect(SOURCES, said["source_labels"])
        self.follows = OutputDigest(said)
        self.images: Counter[str] = Counter()
        self.objects: dict[str, Counter[str]] = {}
        self.whole: dict[str, Counter[str]] = {}
        self.outcomes: Counter[str] = Counter()
        self.blank = 0.0
        self.count = 0
        self.complete = False

    def _expect(self, path: str, digest: str) -> None:
        self.names.add(path)
        self.folders.add(path.rpartition("/")[0])
        self._waiting.append((path, digest))

    def read(self, folder: Path, check: Callable[[Expected], None]) -> Iterator[Problem]:
        """Take in all rows; those that can't be are problems. Their files go to `check`, a few hundred at a time."""
        yield from self._read(folder, check)
        check(self._waiting)
        self._waiting = []
        if twice := self.names.twice():
            yield from _repeated(folder, twice)

    def _read(self, folder: Path, check: Callable[[Expected], None]) -> Iterator[Problem]:
        packed, known = bool(self.said.get("packed")), "record_digest" in self.said
        try:
            for row in read_rows(folder):
                for problem in self._row_problems(row) if known else ():
                    yield {"file": ROWS, "problem": f"row {self.count}: {problem}"}
                self._add(row, packed)
                self.count += 1
                if len(self._waiting) >= BATCH:
                    some, self._waiting = self._waiting, []
                    check(some)
        except (EditionError, *_MALFORMED) as error:
            yield {"file": ROWS, "problem": f"row {self.count}: missing or damaged ({str(error)[:100]}), so images can't be checked"}
            return
        self.complete = True

    def _row_problems(self, row: Row) -> Iterator[str]:
        trace = row["trace"]
        if row["row"] != self.count:
            yield f"is numbered {row['row']}"
        pairs: list[tuple[str, Any, Any]] = [
            ("source", row["source"], trace["image"]), ("variant", row["variant"], trace["variant"]), ("seed", self.said["seed"], trace["seed"]),
            ("source digest", row["source_sha256"], trace["source_sha256"]), ("pixel digest", row["pixel_digest"], trace["pixel_digest"]),
        ]  # fmt: skip
        for name, one, other in pairs:
            if one != other:
                yield f"its {name} {one} and its trace's {other} differ"
        objects = trace["objects"]
        if objects["clipped"] != len(objects["clipped_by"]) or sum(row["classes"].values()) != objects["kept"] + objects["clipped"]:
            yield "its objects do not add up"

    def _add(self, row: Row, packed: bool) -> None:
        labels = row.get("label_files", {})
        if not packed:  # pictures inside shards are checked with these
            for path, sha256 in ((row["file"], row["file_sha256"]), *labels.items()):
                self._expect(path, sha256)
        self.follows.add_image(row["file"], row["pixel_digest"], labels)
        split, objects = row["split"], row["trace"]["objects"]
        self.images[split] += 1
        self.objects.setdefault(split, Counter()).update(row["classes"])
        self.whole.setdefault(split, Counter()).update(row.get("image_classes", ()))
        self.outcomes.update({"kept": objects["kept"], "clipped": objects["clipped"], "dropped": len(objects["dropped"])})
        self.blank += row["trace"]["blank_share"]

    def disagreements(self) -> Iterator[Problem]:
        """Where counts, statistics or the output digest do not follow from the rows."""
        if not self.complete:
            return
        said = self.said
        for split in dict.fromkeys([*said["counts"], *self.images]):
            yield from self._split_problems(split)
        statistics = said.get("statistics", {})
        if statistics and dict(statistics.get("objects", {})) != dict(self.outcomes) and self.count:
            yield {"file": RECORD, "problem": f"its rows have {dict(self.outcomes)} objects, its statistics say {statistics.get('objects')}"}
        if statistics and self.count and abs(statistics.get("blank_share", 0.0) - self.blank / self.count) > 1e-4:
            yield {"file": RECORD, "problem": "its mean blank share does not follow from its rows"}
        for path, sha256 in said["files"].items():
            if path not in (ROWS, CARD):
                self.follows.add_labels(path, sha256)
        if str(self.follows) != said["output_digest"]:
            yield {"file": RECORD, "problem": "its output digest does not follow from what it says and its rows"}

    def _split_problems(self, split: str) -> Iterator[Problem]:
        said, found = self.said["counts"].get(split), self.objects.get(split, Counter())
        if said is None:
            yield {"file": RECORD, "problem": f"says nothing of the split {split}, of which there are rows"}
            return
        if said["images"] != self.images[split]:
            yield {"file": RECORD, "problem": f"its rows have {self.images[split]} images in {split}, its counts say {said['images']}"}
        if said["objects"] != found.total() or {name: count for name, count in said["classes"].items() if count} != dict(found):
            yield {"file": RECORD, "problem": f"its rows have {found.total()} objects in {split} otherwise than its counts say"}
        whole = {name: count for name, count in self.whole.get(split, {}).items() if count}
        if {name: count for name, count in said.get("image_classes", {}).items() if count} != whole:
            yield {"file": RECORD, "problem": f"its rows have other image classes in {split} than its counts say"}


def _file_problems(folder: Path, some: Expected, pool: ThreadPoolExecutor, progress: Callable[[], None]) -> Iterator[Problem]:
    """Files against their digests, several at once."""
    for (path, _), problem in zip(some, pool.map(lambda each: _file_problem(folder / each[0], each[1]), some), strict=True):
        if problem:
            yield {"file": path, "problem": problem}
        progress()


def _file_problem(file: Path, digest: str) -> str:
    """What is wrong with one file, "" for nothing; what is no file is named with all that does not belong there."""
    try:
        if not stat.S_ISREG(os.lstat(file).st_mode):
            return ""
        return "" if file_digest(file) == digest else "changed since it was written"
    except (FileNotFoundError, NotADirectoryError):
        return "missing"
    except (OSError, ValueError) as error:
        return f"can't be read ({getattr(error, 'strerror', None) or error})"


def _foreign(folder: Path, names: _Names, folders: set[str]) -> Iterator[Problem]:
    """Whatever lies there that is not part of the edition. folders: those that its files lie in."""
    parents = {above.as_posix() for path in folders for above in (Path(path), *Path(path).parents)}
    for path, kind in _everything(folder):
        if kind == "file":
            if path not in (RECORD, SCORES, SIGNATURE) and not names.has(path):
                yield {"file": path, "problem": "not part of the edition"}
        elif kind == "folder":
            if path not in parents:
                yield {"file": path, "problem": "a folder that is not part of the edition"}
        else:
            yield {"file": path, "problem": f"{kind}, which is never part of an edition"}


def _repeated(folder: Path, twice: set[int]) -> Iterator[Problem]:
    """Rows whose file an earlier row has already; read again, for only their hashes were kept."""
    met: set[str] = set()
    for number, row in enumerate(read_rows(folder)):
        file = row["file"]
        if short_hash(file) in twice:
            if file in met:
                yield {"file": ROWS, "problem": f"row {number}: {file} is in an earlier row already"}
            met.add(file)


def _everything(folder: Path) -> Iterator[tuple[str, str]]:
    """Every path below the folder and what it is: file, folder, or in words something else; links are not followed."""
    waiting = [""]
    while waiting:
        inside = waiting.pop()
        with os.scandir(folder / inside) as entries:
            for entry in entries:
                path = f"{inside}/{entry.name}" if inside else entry.name
                if entry.is_symlink():
                    yield path, "a link"
                elif entry.is_dir(follow_symlinks=False):
                    yield path, "folder"
                    waiting.append(path)
                elif entry.is_file(follow_symlinks=False):
                    yield path, "file"
                else:
                    yield path, "a pipe, socket or device"
