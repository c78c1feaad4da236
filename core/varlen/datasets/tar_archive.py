"""A dataset's tar, also compressed, read file by file as a folder is.

A compressed one is unpacked once into a temporary file beside the system's others, as its files can't be reached otherwise.
"""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import os
import shutil
import tarfile
import tempfile
import weakref
import zlib
from functools import cached_property
from pathlib import Path, PurePosixPath
from typing import IO, Any, BinaryIO, cast

from varlen.errors import DatasetError

#: What a tar may end in.
TAR_ENDINGS = (".tar", ".tar.gz", ".tgz", ".tar.bz2", ".tbz2", ".tar.xz", ".txz")
MOST_ENTRIES = 1_000_000
MOST_BYTES = 256 << 20
MOST_STREAMED = 16 << 30
#: A compressed tar may unpack to so many times its size, and so much more.
MOST_RATIO, SMALL = 200, 64 << 20
PIECE = 1 << 20
_BROKEN = (OSError, EOFError, tarfile.TarError, zlib.error, lzma.LZMAError, ValueError)
_OPENERS: dict[bytes, Any] = {b"\x1f\x8b": gzip.open, b"BZ": bz2.open, b"\xfd7": lzma.open}


class TarArchive:
    """A dataset's tar. Links in it are refused; nothing of it is written but the temporary file of a compressed one."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.name = path.name[: -len(next(end for end in sorted(TAR_ENDINGS, key=len, reverse=True) if path.name.lower().endswith(end)))]
        self.label = str(path)

    def __getstate__(self) -> dict[str, Any]:
        """Another process opens it anew."""
        return {"path": self.path, "name": self.name, "label": self.label}

    @cached_property
    def _plain(self) -> IO[bytes]:
        """The tar, unpacked where it is compressed. Raises `DatasetError` for one that is damaged or unpacks to too much."""
        try:
            file = self.path.open("rb")
            opener = _OPENERS.get(file.read(2))
            file.seek(0)
            if opener is None:
                return file
            most = self.path.stat().st_size * MOST_RATIO + SMALL
            unpacked: IO[bytes] = tempfile.TemporaryFile(prefix="varlen-tar-")  # noqa: SIM115  it lives as long as the archive
            with file, cast(BinaryIO, opener(file, "rb")) as stream:
                while piece := stream.read(PIECE):
                    unpacked.write(piece)
                    if unpacked.tell() > most or shutil.disk_usage(tempfile.gettempdir()).free < SMALL:
                        raise DatasetError(
                            f"{self.path}: unpacks to more than {most >> 20} MB or than there is room for; unpack it and name the folder"
                        )
            unpacked.flush()
            unpacked.seek(0)
            return unpacked
        except _BROKEN as error:
            raise DatasetError(f"{self.path}: not a tar that can be read ({error})") from None

    @cached_property
    def _entries(self) -> dict[str, tuple[int, int]]:
        """Offset and size of each file."""
        found: dict[str, tuple[int, int]] = {}
        try:
            with tarfile.open(fileobj=self._plain, mode="r:") as archive:
                for info in archive:
                    path = PurePosixPath(info.name)
                    if path.is_absolute() or ".." in path.parts or "\\" in info.name:
                        raise DatasetError(f"{self.path}: entry {info.name!r} leads out of the archive")
                    if info.issym() or info.islnk():
                        raise DatasetError(f"{self.path}: entry {info.name!r} is a link")
                    if info.isfile() and not info.issparse():
                        found[path.as_posix()] = (info.offset_data, info.size)
                    if len(found) > MOST_ENTRIES:
                        raise DatasetError(f"{self.path}: has more than {MOST_ENTRIES} entries")
        except _BROKEN as error:
            raise DatasetError(f"{self.path}: not a tar that can be read ({error})") from None
        tops = {name.split("/", 1)[0] for name in found if "__MACOSX" not in name}
        if len(tops) == 1 and all("/" in name for name in found):
            # One folder around everything is only wrapping.
            found = {name.split("/", 1)[1]: place for name, place in found.items()}
        weakref.finalize(self, self._plain.close)
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
        return self._bytes(path, MOST_BYTES)

    def open(self, path: str) -> BinaryIO:
        """One entry to be read piece by piece. Raises `DatasetError` naming it."""
        return io.BytesIO(self._bytes(path, MOST_STREAMED))

    def _bytes(self, path: str, most: int) -> bytes:
        if path not in self._entries:
            raise DatasetError(f"{self.path}: has no entry {path!r}")
        begin, size = self._entries[path]
        if size > most:
            raise DatasetError(f"{self.path}: entry {path!r} holds {size} bytes, refused")
        data = os.pread(self._plain.fileno(), size, begin)
        if len(data) < size:
            raise DatasetError(f"{self.path}: entry {path!r} can't be read (it ends early)")
        return data


def is_tar(path: Path) -> bool:
    """Whether a file is named as tars are."""
    return path.name.lower().endswith(TAR_ENDINGS)
