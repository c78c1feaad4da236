"""Files are there whole or not at all, also after a power cut."""

from __future__ import annotations

import multiprocessing
import os
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest
from varlen.atomic_files import claimed, file_digest, write_whole
from varlen.errors import EditionError


class Journal:
    """What reached the disk, in turn: contents and folders that were synced, and names that were given."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch) -> None:
        self.events: list[tuple[str, str]] = []
        fsync, replace = os.fsync, Path.replace

        def synced(descriptor: int) -> None:
            self.events.append(("sync", Path(f"/proc/self/fd/{descriptor}").readlink().name))
            fsync(descriptor)

        def named(path: Path, target: Path) -> Path:
            self.events.append(("name", target.name))
            return replace(path, target)

        monkeypatch.setattr(os, "fsync", synced)
        monkeypatch.setattr(Path, "replace", named)


def test_contents_reach_the_disk_before_the_name_and_the_name_before_going_on(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    journal = Journal(monkeypatch)
    write_whole(tmp_path / "a.json", b"one")
    (content, part), name, (folder_sync, folder) = journal.events
    assert content == "sync"
    assert part.startswith(".a.json.")
    assert part.endswith(".part")
    assert name == ("name", "a.json")
    assert (folder_sync, folder) == ("sync", tmp_path.name)
    assert [path.name for path in tmp_path.iterdir()] == ["a.json"]


def test_what_can_be_made_again_is_not_waited_for(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    journal = Journal(monkeypatch)
    write_whole(tmp_path / "new" / "folder" / "a.jpg", b"two", lasting=False)
    assert journal.events == [("name", "a.jpg")]
    assert (tmp_path / "new" / "folder" / "a.jpg").read_bytes() == b"two"


def test_a_reader_sees_the_old_file_until_the_new_one_is_whole(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "a"
    path.write_bytes(b"old")

    def full(descriptor: int) -> None:
        assert path.read_bytes() == b"old"
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(OSError, match="No space left"):
        write_whole(path, b"new")
    assert path.read_bytes() == b"old"
    assert [each.name for each in tmp_path.iterdir()] == ["a"]


def test_many_threads_write_the_same_file(tmp_path: Path) -> None:
    contents = [bytes([number]) * 50_000 for number in range(40)]
    with ThreadPoolExecutor(8) as pool:
        list(pool.map(lambda data: write_whole(tmp_path / "a", data, lasting=False), contents))
    assert (tmp_path / "a").read_bytes() in contents
    assert [each.name for each in tmp_path.iterdir()] == ["a"]


def test_a_digest_is_the_file_s_sha256(tmp_path: Path) -> None:
    (tmp_path / "a").write_bytes(b"abc")
    assert file_digest(tmp_path / "a") == "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"


def test_a_place_to_work_in_is_a_hidden_sibling(tmp_path: Path) -> None:
    out = tmp_path / "far" / "away" / "edition"
    with claimed(out) as part:
        assert part == tmp_path / "far" / "away" / ".edition.varlen-part"
        with pytest.raises(EditionError, match=f"is being written by another process .process {os.getpid()} on"), claimed(out):
            pass
    assert list((tmp_path / "far" / "away").iterdir()) == []
    out.mkdir()
    with claimed(out) as part:
        assert part.name == ".edition.varlen-part"  # empty: it may be replaced
    (out / "thesis.txt").touch()
    refusals = {out: "exists and is not empty; an edition needs a new folder", out / "thesis.txt": r"thesis\.txt: exists and is not empty",
                out / "thesis.txt" / "below": "can't be written"}  # fmt: skip
    for place, says in refusals.items():
        with pytest.raises(EditionError, match=says), claimed(place):
            pass


ROUNDS = 200


def _claims(folder: Path, begin: Any, won: Any) -> None:
    """One of two that want the same folders at the same moments; the one that gets a folder makes it."""
    for number in range(ROUNDS):
        begin.wait()
        try:
            with claimed(folder / str(number)) as part:
                part.mkdir()
                part.rename(folder / str(number))
                (folder / str(number) / str(os.getpid())).touch()
        except EditionError:
            continue
        won[number] += 1


def test_of_two_who_want_one_folder_one_gets_it(tmp_path: Path) -> None:
    context = multiprocessing.get_context("fork")
    begin, won = context.Barrier(2), context.Array("i", ROUNDS)
    both = [context.Process(target=_claims, args=(tmp_path, begin, won)) for _ in range(2)]
    for each in both:
        each.start()
    for each in both:
        each.join(60)
    assert list(won) == [1] * ROUNDS
    assert sorted(path.name for path in tmp_path.iterdir()) == sorted(map(str, range(ROUNDS)))  # no lock, no part left


def test_a_claim_goes_with_the_process_that_held_it(tmp_path: Path) -> None:
    context = multiprocessing.get_context("fork")
    holding = context.Event()

    def hold() -> None:
        with claimed(tmp_path / "out"):
            holding.set()
            time.sleep(60)

    holder = context.Process(target=hold)
    holder.start()
    holding.wait(30)
    with pytest.raises(EditionError, match=f"process {holder.pid} on"), claimed(tmp_path / "out"):
        pass
    holder.kill()
    holder.join(30)
    with claimed(tmp_path / "out"):
        pass


@pytest.mark.parametrize("lasting", [True, False])
def test_nothing_stays_open(tmp_path: Path, lasting: bool) -> None:
    """A server that writes for weeks must not run out of files."""
    write_whole(tmp_path / "first", b"warm", lasting)
    before = len(list(Path("/proc/self/fd").iterdir()))
    for number in range(20):
        write_whole(tmp_path / f"{number}", b"data", lasting)
    assert len(list(Path("/proc/self/fd").iterdir())) == before
