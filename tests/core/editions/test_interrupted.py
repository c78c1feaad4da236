"""Editions that are interrupted in every way come to the same digest; nothing half done looks done."""

from __future__ import annotations

import json
import os
import random
import re
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import psutil
import pytest
import varlen.datasets.entry
from varlen.datasets.dataset import Dataset
from varlen.datasets.entry import StoredEntries
from varlen.datasets.formats import read_dataset
from varlen.editions.chunks import ImageFailed
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.verify import verify
from varlen.errors import EditionError
from varlen.executors import ChunkWork, run_on_cluster
from varlen.pipeline.document import from_json
from varlen.stores import Store

from tests.conftest import free_port, send_folder

ORDER = ExportSpec(variants=8, originals=False)


@pytest.fixture(scope="module")
def wanted(survey_folder: Path, tmp_path_factory: pytest.TempPathFactory) -> str:
    """The digest of the edition made in one go."""
    document = json.loads((survey_folder / "pipelines" / "lamp-drift.varlen.json").read_text())
    record = export(read_dataset(survey_folder), from_json(document), tmp_path_factory.mktemp("whole") / "out", ORDER)
    return str(record["output_digest"])


def _exporting(survey_folder: Path, out: Path, *more: str) -> subprocess.Popen[str]:
    command = [sys.executable, "-m", "varlen", "export", survey_folder, survey_folder / "pipelines" / "lamp-drift.varlen.json", "-o", out,
               "--variants", "8", "--no-originals", "--resume", *more]  # fmt: skip
    return subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, start_new_session=True)


@pytest.mark.slow
def test_killed_at_random_moments_until_it_is_done(survey_folder: Path, wanted: str, tmp_path: Path) -> None:
    out, chance = tmp_path / "out", random.Random(7)
    for kills in range(40):
        process = _exporting(survey_folder, out, "--workers", "2")
        try:
            # Each time a little longer, so that it comes to an end on a machine of any speed.
            process.wait(chance.uniform(0.2, 1.0) + 0.4 * kills)
        except subprocess.TimeoutExpired:
            os.killpg(process.pid, signal.SIGKILL)
            process.wait()
            assert not (out / "edition.json").exists() or verify(out) == []
        else:
            break
    assert kills >= 1
    assert json.loads((out / "edition.json").read_text())["output_digest"] == wanted
    assert verify(out) == []
    assert [path.name for path in tmp_path.iterdir()] == ["out"]


def test_a_killed_worker_process_takes_nothing_with_it(survey_folder: Path, wanted: str, tmp_path: Path) -> None:
    process = _exporting(survey_folder, tmp_path / "out", "--workers", "2")
    parent, killed = psutil.Process(process.pid), 0
    while process.poll() is None and killed < 2:
        written = list((tmp_path / ".out.varlen-part").rglob("*.jpg"))
        if len(written) > 10 * killed and (children := parent.children()):
            children[0].kill()
            killed += 1
        time.sleep(0.05)
    assert wanted in process.communicate(timeout=120)[0]
    assert killed >= 1


def test_workers_end_when_their_maker_is_killed(survey_folder: Path, tmp_path: Path) -> None:
    process = _exporting(survey_folder, tmp_path / "out", "--workers", "2")
    parent = psutil.Process(process.pid)
    while not (workers := parent.children(recursive=True)) and process.poll() is None:
        time.sleep(0.02)
    assert workers
    process.kill()
    process.wait()
    gone, alive = psutil.wait_procs(workers, timeout=60)
    assert gone
    assert not [worker for worker in alive if worker.status() != psutil.STATUS_ZOMBIE]


def test_an_image_that_fails_is_mended_and_the_export_goes_on(survey_folder: Path, wanted: str, tmp_path: Path) -> None:
    shutil.copytree(survey_folder, tmp_path / "in")
    dataset, pipeline = read_dataset(tmp_path / "in"), from_json(json.loads((survey_folder / "pipelines" / "lamp-drift.varlen.json").read_text()))
    victim = tmp_path / "in" / dataset.by_split()["test"][0]
    content = victim.read_bytes()
    dataset.digest()
    victim.unlink()
    with pytest.raises(ImageFailed, match=re.escape(dataset.by_split()["test"][0])):
        export(dataset, pipeline, tmp_path / "out", ORDER)
    assert not (tmp_path / "out").exists()
    victim.write_bytes(content)
    made: list[int] = []
    record = export(dataset, pipeline, tmp_path / "out", ORDER, resume=True, progress=lambda done, total: made.append(done))
    assert record["output_digest"] == wanted
    assert made[0] >= 48  # the training images were not made again


def test_a_full_disk_stops_it_and_says_what_is_missing(survey: Dataset, lamp_drift: dict, wanted: str, tmp_path: Path) -> None:
    part = tmp_path / ".out.varlen-part"
    pipeline = from_json(lamp_drift)

    def fill(done: int, total: int) -> None:
        if 0 < done < total:
            (part / "rows.jsonl").symlink_to("/dev/full") if not (part / "rows.jsonl").is_symlink() else None

    with pytest.raises(EditionError, match=r"the disk is full after 50 of 50 images; about 0\.[1-9] MB more are needed, .* MB are free"):
        export(survey, pipeline, tmp_path / "out", ORDER, progress=fill)
    (part / "rows.jsonl").unlink()
    assert export(survey, pipeline, tmp_path / "out", ORDER, resume=True)["output_digest"] == wanted


def test_images_kept_in_a_file_make_the_same_edition(
    survey_folder: Path, lamp_drift: dict, wanted: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(varlen.datasets.entry, "FEW", 3)
    dataset = read_dataset(survey_folder)
    assert isinstance(dataset.entries, StoredEntries)
    assert export(dataset, from_json(lamp_drift), tmp_path / "out", ORDER, workers=2)["output_digest"] == wanted
    stored = dataset.entries.path
    assert stored.exists()
    del dataset
    assert not stored.exists()


def _dask(*words: str, **environment: str) -> subprocess.Popen[bytes]:
    command = [Path(sys.executable).with_name("dask"), *words, "--host", "127.0.0.1", "--no-dashboard"]
    return subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env={**os.environ, **environment})


def _worker(address: str, **environment: str) -> subprocess.Popen[bytes]:
    return _dask("worker", address, "--nthreads", "1", "--no-nanny", **environment)


@contextmanager
def running_cluster(count: int = 2, **environment: str) -> Iterator[tuple[str, list[subprocess.Popen[bytes]]]]:
    """A Dask scheduler on loopback with some workers, as the guide says to start them; those that are added to the list end with it."""
    port = free_port()
    address = f"tcp://127.0.0.1:{port}"
    scheduler = _dask("scheduler", "--port", str(port))
    workers = [_worker(address, **environment) for _ in range(count)]
    yield address, workers
    for process in (*workers, scheduler):
        process.kill()
        process.wait()


@pytest.fixture
def cluster() -> Iterator[tuple[str, list[subprocess.Popen[bytes]]]]:
    with running_cluster() as found:
        yield found


@pytest.fixture
def cluster_apart(bucket: Store, tmp_path: Path) -> Iterator[str]:
    """Its workers look for no folder of ours; they know where the store is."""
    with running_cluster(VARLEN_APART="1") as (address, _):
        yield address


@pytest.mark.slow
def test_the_same_edition_from_a_cluster_that_loses_a_worker(
    survey_folder: Path, wanted: str, tmp_path: Path, cluster: tuple[str, list[subprocess.Popen[bytes]]]
) -> None:
    address, workers = cluster
    process = _exporting(survey_folder, tmp_path / "out", "--scheduler", address)
    deadline = time.monotonic() + 120
    while not list((tmp_path / ".out.varlen-part").glob("images/*/*.jpg")) and process.poll() is None and time.monotonic() < deadline:
        time.sleep(0.02)
    workers[0].kill()
    out, error = process.communicate(timeout=180)
    assert wanted in out, error
    assert verify(tmp_path / "out") == []


@pytest.mark.slow
def test_a_worker_that_comes_later_does_everything_when_the_first_is_lost() -> None:
    """With the first goes its copy of what was sent to every machine once."""
    from distributed import Client

    def chunk(sent: bytes, number: int) -> int:
        time.sleep(0.2)
        return len(sent)

    with running_cluster(count=1) as (address, workers):
        done: list[int] = []

        def progress(count: int) -> None:
            done.append(count)
            if len(done) == 1:
                workers.append(_worker(address))
                with Client(address, set_as_default=False) as client:
                    client.wait_for_workers(2, timeout=120)
                workers[0].kill()

        run_on_cluster(ChunkWork(list(range(8)), chunk, lambda number: (number,), progress, lambda: False), address, b"job")
        assert done == [3] * 8


@pytest.mark.slow
def test_the_same_edition_from_machines_that_see_none_of_its_folders(
    survey_folder: Path, wanted: str, bucket: Store, tmp_path: Path, cluster_apart: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The source comes from a store, what is made comes back with the answer; a source that nobody there can see is named."""
    send_folder(bucket, survey_folder, "survey")
    monkeypatch.setattr("varlen.datasets.entry.FEW", 2)  # labels in a file, as those of very many images
    stored = read_dataset(f"{bucket.url}/survey")
    pipeline = from_json(json.loads((survey_folder / "pipelines" / "lamp-drift.varlen.json").read_text()))
    made = export(stored, pipeline, tmp_path / "out", ORDER, scheduler=cluster_apart)
    assert made["output_digest"] == wanted
    assert verify(tmp_path / "out") == []
    with pytest.raises(EditionError, match=r"sees neither the export's folder nor .*: read the dataset from a URL"):
        export(read_dataset(survey_folder), pipeline, tmp_path / "other", ORDER, scheduler=cluster_apart)


def test_a_scheduler_that_does_not_answer_is_said(survey: Dataset, lamp_drift: dict, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("varlen.executors.CLUSTER_WAIT_S", 1)
    with pytest.raises(EditionError, match=r"tcp://127\.0\.0\.1:9: no Dask scheduler answers there"):
        export(survey, from_json(lamp_drift), tmp_path / "out", ORDER, scheduler="tcp://127.0.0.1:9")
