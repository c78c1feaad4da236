"""A dataset's archive, a zip or a tar, read file by file as a folder is.

A compressed tar is unpacked once into a temporary file beside the system's others, as its files can't be reached otherwise.
"""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import os
import shutil
import stat
import struct
import tarfile
import tempfile
import weakref
import zipfile
import zlib
from collections.abc import Iterable, Iterator
from functools import cached_property
from pathlib import Path, PurePosixPath
from typing import IO, Any, BinaryIO, ClassVar, Generic, NamedTuple, TypeVar, cast

from varlen.errors import DatasetError

#: What a tar may end in.
TAR_ENDINGS = (".tar", ".tar.gz", ".tgz", ".tar.bz2", ".tbz2", ".tar.xz", ".txz")
MOST_ENTRIES = 1_000_000
MOST_BYTES = 256 << 20
MOST_STREAMED = 16 << 30
#: What is compressed may unpack to so many times its size; a whole tar to so much more.
MOST_RATIO, SMALL = 200, 64 << 20
PIECE = 1 << 20
_BROKEN_TAR = (OSError, EOFError, tarfile.TarError, zlib.error, lzma.LZMAError, ValueError)
_BROKEN_ENTRY = (OSError, zipfile.BadZipFile, RuntimeError, NotImplementedError, EOFError, zlib.error, ValueError, struct.error)
_OPENERS: dict[bytes, Any] = {b"\x1f\x8b": gzip.open, b"BZ": bz2.open, b"\xfd7": lzma.open}

E = TypeVar("E")


class _Listed(NamedTuple, Generic[E]):
    """An entry as the archive lists it: a link, a file that `entry` leads to, or neither."""

    name: str
    linked: bool
    entry: E | None


class Archive(Generic[E]):
    """What both kinds of archives share: names that lead out and links are refused, and one folder around everything is taken off."""

    #: What it is called where it can't be read.
    kind: ClassVar[str]

    def __init__(self, path: Path) -> None:
        self.path = path
        self.name = path.stem
        self.label = str(path)

    def __getstate__(self) -> dict[str, Any]:
        """Another process opens it anew."""
        return {"path": self.path, "name": self.name, "label": self.label}

    def _listed(self) -> Iterator[_Listed[E]]:
        """Every entry. Raises `DatasetError` for an archive that can't be read."""
        raise NotImplementedError

    @cached_property
    def _entries(self) -> dict[str, E]:
        found: dict[str, E] = {}
        for name, linked, entry in self._listed():
            path = PurePosixPath(name)
            if path.is_absolute() or ".." in path.parts or "\\" in name or not _is_text(name):
                raise DatasetError(f"{self.path}: entry {name!r} leads out of the archive")
            if linked:
                raise DatasetError(f"{self.path}: entry {name!r} is a link")
            if entry is not None:
                found[path.as_posix()] = entry
        tops = {name.split("/", 1)[0] for name in found if "__MACOSX" not in name}
        if len(tops) == 1 and all("/" in name for name in found):
            # One folder around everything is only wrapping.
            found = {name.split("/", 1)[1]: entry for name, entry in found.items()}
        return found

    def _entry(self, path: str) -> E:
        if path not in self._entries:
            raise DatasetError(f"{self.path}: has no entry {path!r}")
        return self._entries[path]

    def _unreadable(self, error: object) -> DatasetError:
        return DatasetError(f"{self.path}: not a {self.kind} that can be read ({error})")

    @cached_property
    def paths(self) -> frozenset[str]:
        """Every file in the archive."""
        return frozenset(self._entries)

    def near(self, suffix: str, folders: tuple[str, ...]) -> list[str]:
        """Files with a suffix right in the top folder and in `folders`, sorted."""
        return near_the_top(self.paths, suffix, folders)

    def has(self, path: str) -> bool:
        """Whether there is such a file in the archive."""
        return path in self._entries


class ZipArchive(Archive[zipfile.ZipInfo]):
    """A dataset's zip. Entries are read one at a time and never unpacked to disk."""

    kind = "zip"

    @cached_property
    def _zip(self) -> zipfile.ZipFile:
        try:
            return zipfile.ZipFile(self.path)
        except (OSError, zipfile.BadZipFile, NotImplementedError, ValueError, struct.error, OverflowError) as error:
            raise self._unreadable(error) from None

    def _listed(self) -> Iterator[_Listed[zipfile.ZipInfo]]:
        infos = self._zip.infolist()
        if len(infos) > MOST_ENTRIES:
            raise DatasetError(f"{self.path}: {len(infos)} entries are more than {MOST_ENTRIES}")
        for info in infos:
            yield _Listed(info.filename, stat.S_ISLNK(info.external_attr >> 16), None if info.is_dir() else info)

    def read(self, path: str) -> bytes:
        """The content of one entry. Raises `DatasetError` naming it."""
        info = self._checked(path, MOST_BYTES)
        try:
            with self._zip.open(info) as stream:
                return stream.read(MOST_BYTES)
        except _BROKEN_ENTRY as error:
            raise DatasetError(f"{self.path}: entry {path!r} can't be read ({error})") from None

    def open(self, path: str) -> BinaryIO:
        """One entry to be read piece by piece. Raises `DatasetError` naming it."""
        info = self._checked(path, MOST_STREAMED)
        try:
            return cast(BinaryIO, _EntryStream(self._zip.open(info), f"{self.path}: entry {path!r}"))
        except _BROKEN_ENTRY as error:
            raise DatasetError(f"{self.path}: entry {path!r} can't be read ({error})") from None

    def _checked(self, path: str, most: int) -> zipfile.ZipInfo:
        info = self._entry(path)
        if info.file_size > most or info.file_size > MOST_RATIO * max(info.compress_size, 1) + 1_000_000:
            raise DatasetError(f"{self.path}: entry {path!r} unpacks to {info.file_size} bytes, refused")
        return info


class TarArchive(Archive[tuple[int, int]]):
    """A dataset's tar, of each file its offset and size. Nothing of it is written but the temporary file of a compressed one."""

    kind = "tar"

    def __init__(self, path: Path) -> None:
        super().__init__(path)
        self.name = path.name[: -len(next(end for end in sorted(TAR_ENDINGS, key=len, reverse=True) if path.name.lower().endswith(end)))]

    @cached_property
    def _plain(self) -> IO[bytes]:
        """The tar, unpacked where it is compressed. Raises `DatasetError` for one that is damaged or unpacks to too much."""
        try:
            file = self.path.open("rb")
            opener = _OPENERS.get(file.read(2))
            file.seek(0)
            plain = file if opener is None else self._unpacked(file, opener)
        except _BROKEN_TAR as error:
            raise self._unreadable(error) from None
        weakref.finalize(self, plain.close)
        return plain

    def _unpacked(self, file: BinaryIO, opener: Any) -> IO[bytes]:
        most = self.path.stat().st_size * MOST_RATIO + SMALL
        unpacked: IO[bytes] = tempfile.TemporaryFile(prefix="varlen-tar-")  # noqa: SIM115  it lives as long as the archive
        with file, cast(BinaryIO, opener(file, "rb")) as stream:
            while piece := stream.read(PIECE):
                unpacked.write(piece)
                if unpacked.tell() > most or shutil.disk_usage(tempfile.gettempdir()).free < SMALL:
                    raise DatasetError(f"{self.path}: unpacks to more than {most >> 20} MB or than there is room for; unpack it and name the folder")
        unpacked.flush()
        unpacked.seek(0)
        return unpacked

    def _listed(self) -> Iterator[_Listed[tuple[int, int]]]:
        try:
            with tarfile.open(fileobj=self._plain, mode="r:") as archive:
                for count, info in enumerate(archive, 1):
                    if count > MOST_ENTRIES:
                        raise DatasetError(f"{self.path}: has more than {MOST_ENTRIES} entries")
                    place = (info.offset_data, info.size) if info.isfile() and not info.issparse() else None
                    yield _Listed(info.name, info.issym() or info.islnk(), place)
        except _BROKEN_TAR as error:
            raise self._unreadable(error) from None

    def read(self, path: str) -> bytes:
        """The content of one entry. Raises `DatasetError` naming it."""
        return self._bytes(path, MOST_BYTES)

    def open(self, path: str) -> BinaryIO:
        """One entry to be read piece by piece. Raises `DatasetError` naming it."""
        return io.BytesIO(self._bytes(path, MOST_STREAMED))

    def _bytes(self, path: str, most: int) -> bytes:
        begin, size = self._entry(path)
        if size > most:
            raise DatasetError(f"{self.path}: entry {path!r} holds {size} bytes, refused")
        data = os.pread(self._plain.fileno(), size, begin)
        if len(data) < size:
            raise DatasetError(f"{self.path}: entry {path!r} can't be read (it ends early)")
        return data


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


def _is_text(path: str) -> bool:
    """Whether a name can be written as UTF-8: one that can't could be put into no label file."""
    try:
        path.encode()
    except UnicodeEncodeError:
        return False
    return True


def near_the_top(paths: Iterable[str], suffix: str, folders: tuple[str, ...]) -> list[str]:
    """Of paths those with a suffix right in the top folder and in `folders`, sorted."""
    return sorted(path for path in paths if path.endswith(suffix) and PurePosixPath(path).parent.as_posix() in (".", *folders))


def is_tar(path: Path) -> bool:
    """Whether a file is named as tars are."""
    return path.name.lower().endswith(TAR_ENDINGS)
