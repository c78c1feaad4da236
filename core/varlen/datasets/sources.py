"""Where a dataset's files are: a folder or a zip, read the same way.

Paths inside are relative, with forward slashes. Both kinds can be sent to worker processes;
a zip is opened again there.
"""

from __future__ import annotations

import io
import os
import stat
import struct
import zipfile
import zlib
from functools import cached_property
from pathlib import Path, PurePosixPath
from typing import IO, Any, BinaryIO, Protocol, cast

from varlen.datasets.tar_archive import TarArchive, is_tar
from varlen.errors import DatasetError, VarlenError
from varlen.stores import Store, url_of

#: What a picture file may be called.
READABLE = (".jpg", ".jpeg", ".png", ".webp", ".bmp", ".tif", ".tiff")
#: Files that name pictures and say what is on them.
LABEL_FILES = (".json", ".csv", ".tsv", ".jsonl", ".ndjson")

#: Archives that are not opened, and what unpacks them.
UNPACKERS = {".7z": "7z x {}", ".rar": "unrar x {}"}
MOST_ENTRIES = 1_000_000
MOST_BYTES = 256 << 20
MOST_STREAMED = 16 << 30
MOST_RATIO = 200
_BROKEN_ENTRY = (OSError, zipfile.BadZipFile, RuntimeError, NotImplementedError, EOFError, zlib.error, ValueError, struct.error)


class Files(Protocol):
    """Where image files come from: a folder, a zip, or a store of a server's."""

    @property
    def name(self) -> str:
        """A short name for people."""

    def read(self, path: str) -> bytes:
        """The content of one file. Raises `DatasetError` naming it."""


class Folder:
    """A dataset's folder."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self.name = root.name
        self.label = str(root)

    @cached_property
    def paths(self) -> frozenset[str]:
        """Every file below the folder; links that lead out of it are left out."""
        found: set[str] = set()
        top = os.fspath(self.root)
        for folder, _, names in os.walk(top):
            inside = folder[len(top) :].strip(os.sep).replace(os.sep, "/")
            prefix = f"{inside}/" if inside else ""
            for name in names:
                path = prefix + name
                # A link may lead out; what is neither file nor link (a pipe, a socket) would never end.
                full = os.path.join(folder, name)
                if self.has(path) if os.path.islink(full) else os.path.isfile(full):
                    found.add(path)
        return frozenset(found)

    def __getstate__(self) -> dict[str, Any]:
        return {"root": self.root, "name": self.name, "label": self.label}

    def near(self, suffix: str, folders: tuple[str, ...]) -> list[str]:
        """Files with a suffix right in the top folder and in `folders`, sorted; nothing else is read."""
        found = [path.relative_to(self.root).as_posix() for folder in ("", *folders) for path in (self.root / folder).glob(f"*{suffix}")]
        return sorted(filter(self.has, found))

    @cached_property
    def _real(self) -> str:
        return os.path.join(os.path.realpath(self.root), "")

    def has(self, path: str) -> bool:
        """Whether there is such a file below the folder; links that lead out of it don't count. Quick, for a few files of many."""
        try:
            full = os.path.join(self._real, path)
            return os.path.isfile(full) and ".." not in PurePosixPath(path).parts and os.path.realpath(full).startswith(self._real)
        except ValueError:  # a name that no file can have
            return False

    def read(self, path: str) -> bytes:
        """The content of one file. Raises `DatasetError` naming it."""
        try:
            return (self.root / path).read_bytes()
        except (OSError, ValueError) as error:
            raise DatasetError(f"{self.root / path}: {getattr(error, 'strerror', None) or error}") from None

    def open(self, path: str) -> BinaryIO:
        """One file to be read piece by piece. Raises `DatasetError` naming it."""
        try:
            return (self.root / path).open("rb")
        except (OSError, ValueError) as error:
            raise DatasetError(f"{self.root / path}: {getattr(error, 'strerror', None) or error}") from None


class OneFile(Folder):
    """A dataset that is one picture, or one file of labels beside its pictures."""

    def __init__(self, path: Path) -> None:
        super().__init__(path.parent)
        self.only = path.name
        self.name, self.label = path.stem, str(path)

    @cached_property
    def paths(self) -> frozenset[str]:
        """The one file."""
        return frozenset((self.only,))

    def __getstate__(self) -> dict[str, Any]:
        return {**super().__getstate__(), "only": self.only}


def _is_text(path: str) -> bool:
    """Whether a name can be written as UTF-8: one that can't could be put into no label file."""
    try:
        path.encode()
    except UnicodeEncodeError:
        return False
    return True


class _EntryStream(io.BufferedIOBase):
    """An entry of a zip being read: damage in it raises `DatasetError`."""

    def __init__(self, stream: IO[bytes], label: str) -> None:
        self._stream, self._label = stream, label

    def readable(self) -> bool:
        return True

    def read(self, size: int | None = -1) -> bytes:
        try:
            return self._stream.read(-1 if size is None else size)
        except _BROKEN_ENTRY as error:
            raise DatasetError(f"{self._label} can't be read ({error})") from None

    def read1(self, size: int = -1) -> bytes:
        return self.read(size)

    def close(self) -> None:
        self._stream.close()
        super().close()


class Archive:
    """A dataset's zip. Entries are read one at a time and never unpacked to disk."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.name = path.stem
        self.label = str(path)

    def __getstate__(self) -> dict[str, Any]:
        return {"path": self.path, "name": self.name, "label": self.label}

    @cached_property
    def _zip(self) -> zipfile.ZipFile:
        try:
            return zipfile.ZipFile(self.path)
        except (OSError, zipfile.BadZipFile, NotImplementedError, ValueError, struct.error, OverflowError) as error:
            raise DatasetError(f"{self.path}: not a zip that can be read ({error})") from None

    @cached_property
    def _entries(self) -> dict[str, zipfile.ZipInfo]:
        infos = self._zip.infolist()
        if len(infos) > MOST_ENTRIES:
            raise DatasetError(f"{self.path}: {len(infos)} entries are more than {MOST_ENTRIES}")
        found = {}
        for info in infos:
            path = PurePosixPath(info.filename)
            if path.is_absolute() or ".." in path.parts or "\\" in info.filename or not _is_text(info.filename):
                raise DatasetError(f"{self.path}: entry {info.filename!r} leads out of the archive")
            if stat.S_ISLNK(info.external_attr >> 16):
                raise DatasetError(f"{self.path}: entry {info.filename!r} is a link")
            if not info.is_dir():
                found[path.as_posix()] = info
        tops = {name.split("/", 1)[0] for name in found if "__MACOSX" not in name}
        if len(tops) == 1 and all("/" in name for name in found):
            # One folder around everything is only wrapping.
            found = {name.split("/", 1)[1]: info for name, info in found.items()}
        return found

    @cached_property
    def paths(self) -> frozenset[str]:
        """Every file in the archive."""
        return frozenset(self._entries)

    def near(self, suffix: str, folders: tuple[str, ...]) -> list[str]:
        """Files with a suffix right in the top folder and in `folders`, sorted."""
        return sorted(path for path in self.paths if path.endswith(suffix) and PurePosixPath(path).parent.as_posix() in (".", *folders))

    def has(self, path: str) -> bool:
        """Whether there is such a file in the archive."""
        return path in self._entries

    def read(self, path: str) -> bytes:
        """The content of one entry. Raises `DatasetError` naming it."""
        info = self._entry(path, MOST_BYTES)
        try:
            with self._zip.open(info) as stream:
                return stream.read(MOST_BYTES)
        except _BROKEN_ENTRY as error:
            raise DatasetError(f"{self.path}: entry {path!r} can't be read ({error})") from None

    def open(self, path: str) -> BinaryIO:
        """One entry to be read piece by piece. Raises `DatasetError` naming it."""
        info = self._entry(path, MOST_STREAMED)
        try:
            return cast(BinaryIO, _EntryStream(self._zip.open(info), f"{self.path}: entry {path!r}"))
        except _BROKEN_ENTRY as error:
            raise DatasetError(f"{self.path}: entry {path!r} can't be read ({error})") from None

    def _entry(self, path: str, most: int) -> zipfile.ZipInfo:
        info = self._entries.get(path)
        if info is None:
            raise DatasetError(f"{self.path}: has no entry {path!r}")
        if info.file_size > most or info.file_size > MOST_RATIO * max(info.compress_size, 1) + 1_000_000:
            raise DatasetError(f"{self.path}: entry {path!r} unpacks to {info.file_size} bytes, refused")
        return info


def open_files(path: Path | str) -> SourceFiles:
    """The files of a dataset given as a folder, a zip, a tar, one of its annotation files, or a folder's URL in an object store."""
    if url := url_of(path):
        return StoredFolder(url)
    path = Path(path)
    try:
        path.exists()
    except (OSError, ValueError) as error:  # longer than a path may be, or with a NUL in it
        raise DatasetError(f"{str(path)[:200]!r}: not a path on this machine ({getattr(error, 'strerror', None) or error})") from None
    if path.is_dir():
        return Folder(path)
    if path.is_file() and zipfile.is_zipfile(path):
        return Archive(path)
    if path.is_file() and is_tar(path):
        return TarArchive(path)
    if path.is_file() and path.suffix.lower() in UNPACKERS:
        raise DatasetError(f"{path}: {path.suffix[1:]} archives are not opened; unpack it with: {UNPACKERS[path.suffix.lower()].format(path.name)}")
    if path.is_file() and path.suffix.lower() in LABEL_FILES:
        return Folder(path.parent.parent if path.parent.name == "annotations" else path.parent)
    if path.is_file() and path.suffix.lower() in READABLE:
        return OneFile(path)
    if path.exists():
        raise DatasetError(f"{path}: neither a folder, a zip, a tar, a picture nor a file of labels ({', '.join(LABEL_FILES)})")
    raise DatasetError(f"{path}: no such file or folder")


class StoredFolder:
    """Files below a URL, read as those of a folder are; the list of them is fetched once."""

    def __init__(self, url: str) -> None:
        self.store = Store(url)
        self.name, self.label = self.store.name, url

    def __getstate__(self) -> dict[str, Any]:
        return {"store": self.store, "name": self.name, "label": self.label}

    @cached_property
    def paths(self) -> frozenset[str]:
        """Every file below the URL."""
        try:
            found = self.store.listed()
        except VarlenError as error:
            raise DatasetError(str(error)) from None
        if not found:
            raise DatasetError(f"{self.label}: there is nothing here")
        return frozenset(path for path in found if not path.endswith("/"))

    def near(self, suffix: str, folders: tuple[str, ...]) -> list[str]:
        """Files with a suffix right in the top folder and in `folders`, sorted."""
        return sorted(path for path in self.paths if path.endswith(suffix) and PurePosixPath(path).parent.as_posix() in (".", *folders))

    def has(self, path: str) -> bool:
        """Whether there is such a file."""
        return path in self.paths

    def read(self, path: str) -> bytes:
        """The content of one file. Raises `DatasetError` naming it."""
        try:
            return self.store.read(path)
        except VarlenError as error:
            raise DatasetError(str(error)) from None

    def open(self, path: str) -> BinaryIO:
        """One file to be read piece by piece. Raises `DatasetError` naming it."""
        try:
            return cast(BinaryIO, self.store.open(path))
        except VarlenError as error:
            raise DatasetError(str(error)) from None


SourceFiles = Folder | Archive | TarArchive | StoredFolder
