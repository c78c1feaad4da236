"""A full disk at every stage of an export and a conversion: one clear line, nothing half made taken for whole, and the rest after room was made."""

from __future__ import annotations

import errno
import os
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from varlen.datasets.convert import convert
from varlen.datasets.dataset import Dataset
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.verify import verify
from varlen.errors import EditionError

from tests.conftest import make_pipeline
from tests.core.editions.test_tampering import STEPS, source_in

ORDER = ExportSpec(variants=2, image="png")


@pytest.fixture
def source(tmp_path: Path) -> Dataset:
    return source_in(tmp_path / "source")


@pytest.fixture
def small_disk(tmp_path: Path) -> Iterator[Path]:
    """A file system of 64 kB, where this machine lets us have one."""
    place = tmp_path / "disk"
    place.mkdir()
    done = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", str(place)], capture_output=True)
    if done.returncode:
        pytest.skip("no file system can be mounted here; the failing writer of the other tests stands in")
    yield place
    subprocess.run(["umount", "-l", str(place)], check=True)


@pytest.mark.parametrize("workers", [1, 2])
def test_on_a_file_system_that_is_too_small(source: Dataset, small_disk: Path, workers: int) -> None:
    with pytest.raises(EditionError, match=r"the disk is full|No space left"):
        export(source, make_pipeline(*STEPS, seed=3), small_disk / "out", ORDER, workers=workers)
    assert not (small_disk / "out").exists()
    subprocess.run(["mount", "-o", "remount,size=8m", str(small_disk)], check=True)
    again = export(source, make_pipeline(*STEPS, seed=3), small_disk / "out", ORDER, workers=workers, resume=True)
    assert verify(small_disk / "out") == []
    whole = export(source, make_pipeline(*STEPS, seed=3), small_disk / "whole", ORDER)
    assert (again["output_digest"], again["record_digest"]) == (whole["output_digest"], whole["record_digest"])


def test_a_conversion_leaves_nothing(source: Dataset, small_disk: Path) -> None:
    subprocess.run(["mount", "-o", "remount,size=16k", str(small_disk)], check=True)
    with pytest.raises(EditionError, match="No space left"):
        convert(source, small_disk / "out", "coco")
    assert list(small_disk.iterdir()) == []


def full_after(monkeypatch: pytest.MonkeyPatch, writes: int) -> list[int]:
    """From the given write on every file that is opened for writing fails as on a full disk."""
    done = [0]
    opened = Path.open

    def counted(self: Path, mode: str = "r", *args: object, **more: object) -> object:
        if any(letter in mode for letter in "wxa"):
            done[0] += 1
            if done[0] > writes:
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), str(self))
        return opened(self, mode, *args, **more)  # type: ignore[call-overload]

    monkeypatch.setattr(Path, "open", counted)
    return done


def test_at_every_write(source: Dataset, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Wherever it strikes: the order says so, no edition is there, and resuming ends as if nothing had happened."""
    expected = export(source, make_pipeline(*STEPS, seed=3), tmp_path / "whole", ORDER)
    with monkeypatch.context() as patch:
        count = full_after(patch, 10**9)
        export(source, make_pipeline(*STEPS, seed=3), tmp_path / "counted", ORDER)
    assert count[0] > 20
    for writes in range(0, count[0], 3):
        out = tmp_path / f"out{writes}"
        with monkeypatch.context() as patch:
            full_after(patch, writes)
            with pytest.raises(EditionError, match="the disk is full"):
                export(source, make_pipeline(*STEPS, seed=3), out, ORDER)
        assert not out.exists()
        assert export(source, make_pipeline(*STEPS, seed=3), out, ORDER, resume=True)["output_digest"] == expected["output_digest"]
        assert verify(out) == []
