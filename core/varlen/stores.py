"""Object stores by URL, such as s3://bucket/prefix, through fsspec; with the extra `cloud`.

Credentials and endpoints come from where the store's own tools take them (its environment
variables and files), never from a URL.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path
from typing import Any, TypeVar

from varlen.errors import VarlenError

#: Stores that are spoken to. Addresses of web servers are not among them: the name alone would decide what is fetched.
SCHEMES = ("s3", "gs", "gcs", "az", "abfs", "memory")
_URL = re.compile(r"(?P<scheme>[a-z][a-z0-9]+):/{1,2}(?P<rest>[^/].*)", re.DOTALL)
_ANY_URL = re.compile(r"([a-z][a-z0-9+.-]+)://")
#: Transfers at once.
AT_ONCE = 16
#: Bytes that are read ahead of a file that is read piece by piece.
PART = 8 << 20
T = TypeVar("T")


def url_of(place: Path | str) -> str | None:
    """The URL of an object store that is meant, None for a path on this machine. A `Path` made of a URL has lost a slash."""
    foreign = _ANY_URL.match(str(place))
    if foreign and foreign[1] not in SCHEMES:
        raise VarlenError(f"{place}: there is no object store of the kind {foreign[1]!r}; known are {', '.join(SCHEMES)}")
    match = _URL.fullmatch(str(place))
    if match is None:
        return None
    if match["scheme"] not in SCHEMES:
        return None
    parts = match["rest"].rstrip("/").split("/")
    if not parts[0] or any(part in ("", ".", "..") for part in parts) or "@" in parts[0] or "?" in match["rest"]:
        raise VarlenError(
            f"{place}: not the URL of a folder in an object store, as s3://bucket/folder; credentials come from the store's own settings"
        )
    return f"{match['scheme']}://{'/'.join(parts)}"


class Store:
    """A folder in an object store. Can be sent to other processes; each connects anew.

    Every method raises `VarlenError` naming the URL and what the store said.
    """

    def __init__(self, url: str) -> None:
        self.url = url
        self.name = url.rsplit("/", 1)[-1]

    def __reduce__(self) -> tuple[Any, ...]:
        return Store, (self.url,)

    def _call(self, what: str, do: Callable[[Any, str], T]) -> T:
        files, root = _connected(self.url)
        try:
            return do(files, f"{root}/{what}" if what else root)
        except FileNotFoundError:
            raise VarlenError(f"{self.at(what)}: no such file") from None
        except Exception as error:  # each store has errors of its own
            raise VarlenError(f"{self.at(what)}: {_said(error)}") from None

    def at(self, path: str) -> str:
        """The URL of a file."""
        return f"{self.url}/{path}" if path else self.url

    def listed(self) -> dict[str, int]:
        """Every file below the folder with its size, by its path; {} where there is none."""

        def find(files: Any, root: str) -> dict[str, int]:
            found = files.find(root, detail=True)
            return {name[len(root) + 1 :]: int(about["size"] or 0) for name, about in found.items() if name.startswith(f"{root}/")}

        try:
            return self._call("", find)
        except VarlenError as error:
            if str(error).endswith("no such file"):
                return {}
            raise

    def has(self, path: str) -> bool:
        """Whether there is such a file."""
        return self._call(path, lambda files, name: bool(files.isfile(name)))

    def read(self, path: str) -> bytes:
        """A whole file."""
        return self._call(path, lambda files, name: bytes(files.cat_file(name)))

    def open(self, path: str) -> Any:
        """A file to be read piece by piece, some of it ahead."""
        return self._call(path, lambda files, name: files.open(name, "rb", block_size=PART, cache_type="readahead"))

    def write(self, path: str, data: bytes) -> None:
        """A small file, whole or not at all."""
        self._call(path, lambda files, name: files.pipe_file(name, data))

    def send(self, file: Path, path: str) -> None:
        """A file of this machine, in parts where it is large; it is there once all of it is."""
        self._call(path, lambda files, name: files.put_file(str(file), name))

    def remove(self, path: str) -> None:
        """One file."""
        self._call(path, lambda files, name: files.rm_file(name))


@lru_cache(maxsize=32)
def _connected(url: str) -> tuple[Any, str]:
    scheme = url.split("://", 1)[0]
    try:
        import fsspec

        files, root = fsspec.core.url_to_fs(url, use_listings_cache=False)
    except ImportError as error:
        raise VarlenError(f"{url}: reading and writing object stores needs a package ({error}): pip install 'varlen[cloud]'") from None
    except Exception as error:
        raise VarlenError(f"{scheme}: can't be used here ({_said(error)})") from None
    return files, str(root).rstrip("/")


def _said(error: Exception) -> str:
    return (str(error) or type(error).__name__).split("\n")[0][:300]
