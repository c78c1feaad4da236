"""Whole files to and from a store by the quick client: the same bytes, errors said by the other, which takes over where the quick one can't."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import obstore
import pytest
from varlen import store_transfers
from varlen.errors import VarlenError
from varlen.stores import Store, _connected


@pytest.fixture(autouse=True)
def fresh(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(store_transfers, "_failures", {})


@pytest.mark.parametrize("size", [0, 1, 70_000, store_transfers.PART + 1, 2 * store_transfers.PART + 3])
def test_a_file_comes_back_as_it_was_sent(bucket: Store, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, size: int) -> None:
    """By the quick client alone, in parts and in one; names that an address would have to escape."""
    data = os.urandom(size)
    (tmp_path / "some.jpg").write_bytes(data)
    files, _ = _connected(bucket.url)
    monkeypatch.setattr(files, "put_file", None)
    monkeypatch.setattr(files, "cat_file", None)
    for name in ("moths/a.jpg", "moths/night 1 + 2 %41 ü#?.jpg"):
        bucket.send(tmp_path / "some.jpg", name)
        assert bucket.read(name) == data
        assert bucket.listed()[name] == size
    assert files.info(f"{bucket.url}/moths/a.jpg", refresh=True)["ContentType"] == "image/jpeg"


def test_where_it_fails_the_other_client_does_it(bucket: Store, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Every time; after a few times the quick one is not asked any more."""
    asked: list[str] = []

    def broken(store: object, path: str, *_: object, **__: object) -> Any:
        asked.append(path)
        raise OSError("no way there")

    monkeypatch.setattr(obstore, "put", broken)
    monkeypatch.setattr(obstore, "get", broken)
    (tmp_path / "some.bin").write_bytes(b"moth")
    for number in range(5):
        bucket.send(tmp_path / "some.bin", f"{number}")
        assert bucket.read(f"{number}") == b"moth"
    assert asked == ["0", "0", "1"]


def test_what_is_missing_or_refused_is_said_in_one_line(bucket: Store, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    with pytest.raises(VarlenError, match=f"^{bucket.url}/none.jpg: no such file$"):
        bucket.read("none.jpg")
    (tmp_path / "a").write_bytes(b"1")
    with pytest.raises(VarlenError, match=r"^s3://0a1b2c-3d4e5fx/a: no such file$"):
        Store("s3://0a1b2c-3d4e5fx").send(tmp_path / "a", "a")


def test_settings_of_the_other_client_alone_are_left_to_it(bucket: Store) -> None:
    import fsspec

    name = f"{bucket.url.removeprefix('s3://')}/a"
    plain = fsspec.filesystem("s3", use_listings_cache=False)
    plain.pipe_file(name, b"1")
    assert store_transfers.read(plain, name) == b"1"
    for settings in ({"requester_pays": True}, {"s3_additional_kwargs": {"ServerSideEncryption": "AES256"}}, {"key": "moth", "secret": "lamp"}):
        assert store_transfers.read(fsspec.filesystem("s3", **settings), name) is None
    assert store_transfers.read(fsspec.filesystem("memory"), name) is None


def test_a_copy_of_the_process_leaves_it_to_the_other_client(bucket: Store) -> None:
    """It has none of the threads that make the transfers and would wait for them for ever."""
    bucket.write("a", b"1")
    files, root = _connected(bucket.url)
    assert store_transfers.read(files, f"{root}/a") == b"1"
    child = os.fork()
    if child == 0:
        os._exit(0 if store_transfers.read(files, f"{root}/a") is None else 1)
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0
