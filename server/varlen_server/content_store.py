"""Pictures on disk, named by their content.

No Django here: worker processes of an export load this alone.
"""

from __future__ import annotations

import contextlib
import os
from pathlib import Path

from varlen.atomic_files import write_whole
from varlen.errors import DatasetError


def path_of(root: Path, digest: str) -> Path:
    """Where the picture with this SHA-256 (hex) lies."""
    return root / digest[:2] / digest


def keep(root: Path, digest: str, data: bytes, lasting: bool = True) -> None:
    """Store a picture unless it is there. `lasting` as in `write_whole`."""
    path = path_of(root, digest)
    if not path.exists():
        write_whole(path, data, lasting)


def link_as(path: Path, name: Path) -> None:
    """A second name for a file; both stay valid when one is removed."""
    name.parent.mkdir(parents=True, exist_ok=True)
    with contextlib.suppress(FileExistsError):
        os.link(path, name)


class StoredFiles:
    """The image files of an imported dataset, by their keys."""

    def __init__(self, name: str, root: Path, digests: dict[str, str]) -> None:
        self.name, self.root, self.digests = name, root, digests

    def read(self, path: str) -> bytes:
        """The content of one image. Raises `DatasetError` naming it."""
        try:
            return path_of(self.root, self.digests[path]).read_bytes()
        except (OSError, KeyError):
            raise DatasetError(f"{path}: its file is gone from {self.root}") from None
