"""A folder as a zip, made while it is sent: neither on disk nor in memory as a whole."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterator
from pathlib import Path

BLOCK = 1 << 20


class _Pipe(io.RawIOBase):
    """Collects what the zip writer puts out until it is taken away."""

    def __init__(self) -> None:
        self.parts: list[bytes] = []

    def writable(self) -> bool:
        return True

    def write(self, data) -> int:  # type: ignore[no-untyped-def,override]
        self.parts.append(bytes(data))
        return len(data)

    def take(self) -> bytes:
        parts, self.parts = self.parts, []
        return b"".join(parts)


def stream_zip(folder: Path) -> Iterator[bytes]:
    """Blocks of a zip of the folder, stored without compression: pictures don't shrink further."""
    pipe = _Pipe()
    with zipfile.ZipFile(pipe, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:  # type: ignore[arg-type]
        for path in sorted(path for path in folder.rglob("*") if path.is_file()):
            info = zipfile.ZipInfo(path.relative_to(folder).as_posix(), (2000, 1, 1, 0, 0, 0))
            with path.open("rb") as source, archive.open(info, "w", force_zip64=True) as target:
                while block := source.read(BLOCK):
                    target.write(block)
                    yield pipe.take()
            yield pipe.take()
    yield pipe.take()
