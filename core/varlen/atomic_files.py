"""Files and folders that are there whole or not at all."""

from __future__ import annotations

import hashlib
import os
from pathlib import Path

from varlen.errors import EditionError


def file_digest(path: Path) -> str:
    """SHA-256 of a file, in hex."""
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()


def write_whole(path: Path, data: bytes) -> None:
    """Write a file so that it is there whole or not at all. Two processes may write the same at once."""
    partial = path.with_name(f"{path.name}.{os.getpid()}.part")
    with partial.open("wb") as stream:
        stream.write(data)
        stream.flush()
        os.fsync(stream.fileno())
    partial.rename(path)


def claim(out: Path) -> Path:
    """The hidden sibling to work in. Refuses a folder that holds anything."""
    if out.exists() and (not out.is_dir() or any(out.iterdir())):
        raise EditionError(f"{out}: exists and is not empty; an edition needs a new folder")
    part = out.absolute().with_name(f".{out.absolute().name}.varlen-part")
    try:
        part.parent.mkdir(parents=True, exist_ok=True)
        probe = part.with_suffix(".probe")
        probe.touch()
        probe.unlink()
    except OSError as error:
        raise EditionError(f"{out}: can't be written ({error.strerror})") from None
    return part
