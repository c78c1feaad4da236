"""A dataset's folder in an object store."""

from __future__ import annotations

from functools import cached_property
from pathlib import PurePosixPath
from typing import Any, BinaryIO, cast

from varlen.errors import DatasetError, VarlenError
from varlen.stores import Store


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
