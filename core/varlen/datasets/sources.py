"""Where a dataset's files are: a folder, an archive or an object store, read the same way.

Paths inside are relative, with forward slashes. All kinds can be sent to worker processes;
an archive is opened again there.
"""

from __future__ import annotations

import os
import zipfile
from functools import cached_property
from pathlib import Path, PurePosixPath
from typing import Any, BinaryIO, Protocol, cast

from varlen.datasets.archives import TarArchive, ZipArchive, is_tar, near_the_top
from varlen.errors import DatasetError, VarlenError
from varlen.stores import Store, url_of

#: What a picture file may be called.
READABLE = (".jpg", ".jpeg", ".png", ".webp", ".bmp", ".tif", ".tiff")
#: Files that name pictures and say what is on them.
LABEL_FILES = (".json", ".csv", ".tsv", ".jsonl", ".ndjson")

#: The largest file that is read into memory; a sparse one may say that it is much larger than it is.
MOST_BYTES = 4 << 30

#: Archives that are not opened, and what unpacks them.
UNPACKERS = {".7z": "7z x {}", ".rar": "unrar x {}"}


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
            with (self.root / path).open("rb") as file:
                size = os.fstat(file.fileno()).st_size
                if size > MOST_BYTES:
                    raise DatasetError(f"{self.root / path}: {size / 2**30:,.1f} GiB are too much for one file, {MOST_BYTES >> 30} are read")
                return file.read()
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
        return ZipArchive(path)
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
        return near_the_top(self.paths, suffix, folders)

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


SourceFiles = Folder | ZipArchive | TarArchive | StoredFolder
