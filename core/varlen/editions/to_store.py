"""Editions that are written to an object store: made on this machine's disk, sent while they are made, complete with their record.

A store can't rename a folder. So the record, `edition.json`, is sent last: before that nobody finds an
edition there, and a mark says that one is on its way.
"""

from __future__ import annotations

import hashlib
import os
import shutil
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor, wait
from pathlib import Path

import orjson

from varlen.atomic_files import file_digest
from varlen.editions.chunks import LeftOut, read_chunk
from varlen.editions.record import RECORD, EditionRecord, read_record
from varlen.errors import EditionError, VarlenError
from varlen.stores import AT_ONCE, Store

#: Says that an edition is on its way; gone once it is complete.
MARK = "varlen-part.json"
NOT_EMPTY = "is not empty; an edition needs a new folder"
#: Transfers are tried so often, with longer and longer rests.
ATTEMPTS = 4
LOOK_SECONDS = 0.3
#: Makes the edition in the folder it is given.
Export = Callable[[Path], EditionRecord]


def staging_of(url: str) -> Path:
    """Where an edition is made before it is sent: one place for each URL, so that an interrupted export is found again."""
    root = os.environ.get("VARLEN_SCRATCH") or Path.home() / ".cache" / "varlen" / "on-the-way"
    return Path(root) / hashlib.sha256(url.encode()).hexdigest()[:16] / "edition"


def export_to_store(url: str, export: Export, resume: bool, packs: bool) -> EditionRecord:
    """Make an edition with `export`, which is given a folder, and send it to `url`; returns its record.

    packs: whether pictures go into larger files at the end, so that nothing can be sent before. Raises `EditionError` where
    something lies there already, and with what the store said; `resume` then continues with what is made and sent.
    """
    store, folder = Store(url), staging_of(url)
    try:
        _claim(store, folder, resume)
        sender = _Sender(store, folder, packs)
        with sender:
            record = _made(folder) or export(folder)
        sender.send_rest()
    except VarlenError as error:
        if isinstance(error, EditionError):
            raise
        raise EditionError(str(error)) from None
    shutil.rmtree(folder.parent, ignore_errors=True)
    return record


def copy_to_store(folder: Path, url: str, progress: Callable[[int, int], None] = lambda done, total: None) -> None:
    """Send an edition that lies in `folder` to `url`; what an interrupted copy of the same edition brought there is not sent again.

    progress: called with files that are there and their final number. Raises `EditionError` where something else lies there, and with what the
    store said.
    """
    store = Store(url)
    mark = orjson.dumps(
        {"says": "an edition is being copied here; it is complete when edition.json is there", "record": file_digest(folder / RECORD)}
    )
    files = sorted(path.relative_to(folder).as_posix() for path in folder.rglob("*") if path.is_file() and path.name != RECORD)
    try:
        there = _free(store)
        if there and not (MARK in there and store.read(MARK) == mark):
            raise EditionError(f"{url}: {NOT_EMPTY}")
        store.write(MARK, mark)
        # A file is there only as a whole.
        missing = [path for path in files if there.get(path) != (folder / path).stat().st_size]
        done = len(files) - len(missing)
        with ThreadPoolExecutor(AT_ONCE, thread_name_prefix="to-store") as pool:
            for start in range(0, len(missing), 16 * AT_ONCE):
                for _ in pool.map(lambda path: _send_one(store, folder / path, path), missing[start : start + 16 * AT_ONCE]):
                    done += 1
                    progress(done, len(files) + 1)
        _send_one(store, folder / RECORD, RECORD)
        store.remove(MARK)
        progress(len(files) + 1, len(files) + 1)
    except VarlenError as error:
        raise EditionError(str(error)) from None


def _send_one(store: Store, file: Path, path: str) -> None:
    """Send a file, more than once where that fails. Raises `VarlenError`, `FileNotFoundError`."""
    for attempt in range(ATTEMPTS):
        if not file.exists():
            raise FileNotFoundError(file)
        try:
            return store.send(file, path)
        except VarlenError:
            if attempt == ATTEMPTS - 1:
                raise
            time.sleep(0.5 * 2**attempt)


def _made(folder: Path) -> EditionRecord | None:
    """The record of an edition that was made, but not sent to the end."""
    return read_record(folder) if (folder / RECORD).exists() else None


def _free(store: Store) -> dict[str, int]:
    """The files at a place where there is no edition yet. Raises `EditionError` where there is one."""
    there = store.listed()
    if RECORD in there:
        raise EditionError(f"{store.url}: there is an edition here already")
    return there


def _claim(store: Store, folder: Path, resume: bool) -> None:
    there = _free(store)
    if there and not (resume and MARK in there):
        begun = "an edition was begun here: --resume continues with it" if MARK in there else NOT_EMPTY
        raise EditionError(f"{store.url}: {begun}")
    if not resume or not there:
        shutil.rmtree(folder.parent, ignore_errors=True)
    folder.parent.mkdir(parents=True, exist_ok=True)
    store.write(MARK, orjson.dumps({"says": "an edition is being written here; it is complete when edition.json is there"}))


class _Sender:
    """Sends pictures while later ones are made; what is sent is written down, a line a file."""

    def __init__(self, store: Store, folder: Path, packs: bool) -> None:
        self.store, self.folder, self.packs = store, folder, packs
        self.part = folder.with_name(f".{folder.name}.varlen-part")
        self.log = folder.with_name("sent.txt")
        self.sent: set[str] = set(self.log.read_text().splitlines()) if self.log.exists() else set()
        self.seen: set[str] = set()
        self.ended = threading.Event()
        self.thread = threading.Thread(target=self._follow, daemon=True, name="to-store")
        self.pool = ThreadPoolExecutor(AT_ONCE, thread_name_prefix="to-store")
        self.failed: VarlenError | None = None

    def __enter__(self) -> None:
        if not self.packs:
            self.thread.start()

    def __exit__(self, *_: object) -> None:
        self.ended.set()
        if not self.packs:
            self.thread.join()

    def _follow(self) -> None:
        while not self.ended.wait(LOOK_SECONDS):
            try:
                self._send(self._new_files(), self.part)
            except FileNotFoundError:
                return  # the edition was put together; the rest is sent from its folder
            except VarlenError as error:
                self.failed = error  # tried again at the end, and said then
                return

    def _new_files(self) -> Iterator[str]:
        """Files of the chunks that were completed since."""
        chunks = self.part / "chunks"
        if not chunks.is_dir():
            return
        for name in sorted(set(os.listdir(chunks)) - self.seen):
            if not name.endswith(".jsonl"):
                continue
            with (chunks / name).open("rb") as lines:
                for row in read_chunk(lines):
                    if not isinstance(row, LeftOut):
                        yield from (row.file, *row.label_files)
            self.seen.add(name)
            if self.ended.is_set():
                return

    def _send(self, files: Iterator[str], top: Path) -> None:
        """Send files, several at once. Raises `VarlenError`, `FileNotFoundError`."""
        under_way: set[Future[str]] = set()
        with self.log.open("a") as log:

            def settle(some: set[Future[str]]) -> None:
                for future in some:
                    path = future.result()
                    self.sent.add(path)
                    log.write(f"{path}\n")

            for path in files:
                if path in self.sent:
                    continue
                under_way.add(self.pool.submit(self._one, top / path, path))
                if len(under_way) >= 4 * AT_ONCE:
                    done, under_way = wait(under_way, return_when="FIRST_COMPLETED")
                    settle(done)
            settle(wait(under_way).done)

    def _one(self, file: Path, path: str) -> str:
        _send_one(self.store, file, path)
        return path

    def send_rest(self) -> None:
        """What is not there yet; then, last, the record."""
        files = sorted(path.relative_to(self.folder).as_posix() for path in self.folder.rglob("*") if path.is_file())
        self._send(iter([path for path in files if path != RECORD]), self.folder)
        for path in self.sent - set(files):
            self.store.remove(path)
        self._one(self.folder / RECORD, RECORD)
        self.store.remove(MARK)
        self.pool.shutdown()
