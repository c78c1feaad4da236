"""A folder as a zip that is never on disk: any part of it can be made separately, so an interrupted download resumes where it was.

Files are stored without compression, since pictures don't shrink further. Their checksums
are reckoned once and kept; from these and the files' sizes every byte of the zip is known.
"""

from __future__ import annotations

import io
import re
import zipfile
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import orjson
from django.conf import settings
from django.http import HttpRequest, HttpResponse, StreamingHttpResponse
from django.http.response import HttpResponseBase
from varlen.atomic_files import write_if_room

BLOCK = 1 << 20


@dataclass(frozen=True, slots=True)
class Piece:
    """A run of the zip's bytes: some of its own, then those of a file."""

    start: int
    head: bytes
    file: Path | None
    size: int


class Zip:
    """The zip of a folder. length: all its bytes."""

    def __init__(self, folder: Path, name: str) -> None:
        """name: under which the checksums are kept; a folder that changes needs another."""
        self.pieces: list[Piece] = []
        checksums = _checksums(folder, name)
        infos, at = [], 0
        for path, (crc, size) in checksums.items():
            info = zipfile.ZipInfo(path, (2000, 1, 1, 0, 0, 0))
            info.CRC, info.file_size, info.compress_size, info.header_offset = crc, size, size, at
            info.external_attr = 0o644 << 16
            head = info.FileHeader(zip64=size >= 2**32 - 1)
            self.pieces.append(Piece(at, head, folder / path, size))
            infos.append(info)
            at += len(head) + size
        self.pieces.append(Piece(at, _directory(infos, at), None, 0))
        self.length = at + len(self.pieces[-1].head)

    def blocks(self, start: int = 0, end: int | None = None) -> Iterator[bytes]:
        """The bytes from `start` up to `end`, a megabyte at most at a time."""
        end = self.length if end is None else min(end, self.length)
        for piece in self.pieces:
            if piece.start + len(piece.head) + piece.size <= start or piece.start >= end:
                continue
            low, high = max(start - piece.start, 0), end - piece.start
            if own := piece.head[low:high]:
                yield own
            if piece.file is not None and high > len(piece.head):
                yield from _part(piece.file, max(low - len(piece.head), 0), min(high - len(piece.head), piece.size))


def _part(file: Path, start: int, end: int) -> Iterator[bytes]:
    with file.open("rb") as source:
        source.seek(start)
        while start < end and (block := source.read(min(BLOCK, end - start))):
            start += len(block)
            yield block


def _directory(infos: list[zipfile.ZipInfo], at: int) -> bytes:
    """What stands at the end of the zip: the list of its files."""

    class Late(io.BytesIO):
        """Begins where the files end."""

        def tell(self) -> int:
            return super().tell() + at

        def seek(self, *_: int) -> int:
            raise OSError("written from front to end")

    out = Late()
    archive = zipfile.ZipFile(out, "w", allowZip64=True)
    archive.filelist, archive.start_dir, archive._didModify = infos, at, True  # type: ignore[attr-defined]
    archive.close()
    return out.getvalue()


def _checksums(folder: Path, name: str) -> dict[str, tuple[int, int]]:
    """CRC-32 and size of every file, by path."""
    kept = settings.TILES / "zips" / f"{name}.json"
    if kept.exists():
        found: dict[str, tuple[int, int]] = orjson.loads(kept.read_bytes())
        return found
    found = {}
    for path in sorted(path for path in folder.rglob("*") if path.is_file()):
        crc = size = 0
        with path.open("rb") as source:
            while block := source.read(BLOCK):
                crc, size = zlib.crc32(block, crc), size + len(block)
        found[path.relative_to(folder).as_posix()] = crc, size
    write_if_room(kept, orjson.dumps(found))
    return found


def part_asked(request: HttpRequest, length: int, etag: str) -> tuple[int, int] | None:
    """First byte and the byte after the last, None for the whole. Raises `ValueError` for a part that is not there.

    Several ranges at once, or a range of another version (If-Range), are answered with the whole.
    """
    match = re.fullmatch(r"bytes=(\d*)-(\d*)", request.headers.get("Range", "").strip())
    if match is None or match[1] == match[2] == "" or request.headers.get("If-Range", etag) != etag:
        return None
    if match[1] == "":
        start, end = max(0, length - int(match[2])), length
    else:
        start, end = int(match[1]), min(int(match[2]) + 1, length) if match[2] else length
    if start >= end:
        raise ValueError(f"bytes {match[0]} of {length}")
    return start, end


def zip_response(request: HttpRequest, archive: Zip, name: str, etag: str) -> HttpResponseBase:
    """The zip, or the part of it that is asked for."""
    headers = {"Content-Disposition": f'attachment; filename="{name}"', "Accept-Ranges": "bytes", "ETag": etag}
    try:
        part = part_asked(request, archive.length, etag)
    except ValueError:
        return HttpResponse(status=416, headers={**headers, "Content-Range": f"bytes */{archive.length}"})
    start, end = part or (0, archive.length)
    headers["Content-Length"] = str(end - start)
    if part:
        headers["Content-Range"] = f"bytes {start}-{end - 1}/{archive.length}"
    return StreamingHttpResponse(archive.blocks(start, end), status=206 if part else 200, content_type="application/zip", headers=headers)
