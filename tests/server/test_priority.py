"""What is looked at goes before what is counted, and files kept for the screen are whole."""

from __future__ import annotations

import threading
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from varlen_server import content_store
from varlen_server.sheet import render_pool


def test_counting_waits_for_what_is_looked_at() -> None:
    done: list[str] = []
    inside, leave = threading.Event(), threading.Event()

    def look() -> None:
        with render_pool.foreground():
            inside.set()
            leave.wait(30)
            done.append("looked at")

    def count() -> None:
        render_pool.yield_to_foreground()
        done.append("counted")

    looking, counting = threading.Thread(target=look), threading.Thread(target=count)
    looking.start()
    assert inside.wait(30)
    counting.start()
    counting.join(0.2)
    assert counting.is_alive()
    assert done == []
    leave.set()
    looking.join(30)
    counting.join(30)
    assert done == ["looked at", "counted"]


def test_counting_is_not_put_off_for_ever(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(render_pool, "LONGEST", 0.01)
    with render_pool.foreground():
        render_pool.yield_to_foreground()


def test_a_picture_that_can_t_be_made_lets_the_next_one_in() -> None:
    with pytest.raises(ValueError, match="broken"), render_pool.foreground():
        raise ValueError("broken")
    with render_pool.foreground():
        pass
    render_pool.yield_to_foreground()


def test_files_written_by_many_at_once_are_whole(tmp_path: Path) -> None:
    """Whoever reads meanwhile sees one of the versions, and nothing else is left in the folder."""
    path = tmp_path / "a" / "b" / "tile.jpg"
    versions = [bytes([n]) * 50_000 for n in range(8)]
    seen: list[bytes] = []

    def write(data: bytes) -> None:
        for _ in range(20):
            content_store.write_whole(path, data, lasting=False)
            seen.append(path.read_bytes())

    with ThreadPoolExecutor(8) as pool:
        list(pool.map(write, versions))
    assert len(seen) == 160
    assert set(seen) <= set(versions)
    assert list(path.parent.iterdir()) == [path]


def test_a_second_name_outlives_the_first(tmp_path: Path) -> None:
    first, second = tmp_path / "made" / "x.jpg", tmp_path / "asked" / "y.jpg"
    content_store.write_whole(first, b"pixels")
    for _ in range(2):
        content_store.link_as(first, second)
    first.unlink()
    assert second.read_bytes() == b"pixels"
