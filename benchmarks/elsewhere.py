"""Editions made elsewhere: sent to an object store against written to a folder, and two workers of a Dask cluster against one, with and without
a folder that they share. Everything runs on this machine, the store's server and the scheduler included.

python -m benchmarks.elsewhere [IMAGES]
"""

from __future__ import annotations

import contextlib
import json
import os
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from benchmarks.exports import USUAL

VARIANTS = 3
ENVIRONMENT = {"AWS_ACCESS_KEY_ID": "moth", "AWS_SECRET_ACCESS_KEY": "lamp", "AWS_DEFAULT_REGION": "us-east-1", "VARLEN_QUIET": "1"}
BIN = Path(sys.executable).parent


def write_pictures(folder: Path, count: int) -> None:
    """Copies of the demo's pictures, each another file, without labels."""
    survey = folder.parent / "survey"
    subprocess.run([BIN / "varlen", "demo", survey, "--images", "8"], check=True, stdout=subprocess.DEVNULL)
    kinds = [path.read_bytes() for path in sorted(survey.rglob("*.jpg"))]
    folder.mkdir()
    for number in range(count):
        (folder / f"{number:05d}.jpg").write_bytes(kinds[number % len(kinds)] + number.to_bytes(4, "big"))


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


@contextlib.contextmanager
def running(*commands: list[str | Path], **environment: str) -> Iterator[None]:
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "env": {**os.environ, **environment}}
    processes = [subprocess.Popen(command, **quiet) for command in commands]  # type: ignore[call-overload]
    try:
        time.sleep(4)
        yield
    finally:
        for process in processes:
            process.kill()
            process.wait()


def export(source: str, pipeline: Path, out: str, *more: str) -> tuple[float, float]:
    """Seconds that an export took, and seconds of processor time."""
    begun, used = time.perf_counter(), os.times()
    command = [BIN / "varlen", "export", source, pipeline, "-o", out, "--variants", str(VARIANTS), "--no-originals", "--accept-loss", "all", *more]
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    now = os.times()
    return time.perf_counter() - begun, now.children_user + now.children_system - used.children_user - used.children_system


def against_a_store(source: Path, pipeline: Path, place: str, images: int) -> None:
    """The store's server takes its share of the same two cores, so processor time is told as well."""
    for form in ("pictures", "tar"):
        here, there = [], []
        for turn in range(2):
            here.append(export(str(source), pipeline, f"{place}/here-{form}-{turn}", "--format", form, "--workers", "1"))
            there.append(export(str(source), pipeline, f"s3://moths/there-{form}-{turn}", "--format", form, "--workers", "1"))
        (here_s, here_cpu), (there_s, there_cpu) = (map(statistics.median, zip(*each, strict=True)) for each in (here, there))
        print(f"{images} images as {form}, one worker: folder {here_s:.1f} s, store {there_s:.1f} s: {here_s / there_s:.2f} × as fast; "
              f"processor time {here_cpu:.1f} and {there_cpu:.1f} s: {here_cpu / there_cpu:.2f} ×", flush=True)  # fmt: skip


def on_a_cluster(source: str, few: str, pipeline: Path, place: str, name: str, **environment: str) -> None:
    """Two workers against one, after a few pictures have made them load what they need."""
    port = free_port()
    address = f"tcp://127.0.0.1:{port}"
    scheduler: list[str | Path] = [BIN / "dask", "scheduler", "--host", "127.0.0.1", "--port", str(port), "--no-dashboard"]
    worker: list[str | Path] = [BIN / "dask", "worker", address, "--nthreads", "1", "--no-dashboard", "--host", "127.0.0.1"]
    taken = []
    for workers in (1, 2):
        with running(scheduler, *[worker] * workers, **environment):
            more = ("--format", "pictures", "--scheduler", address)
            export(few, pipeline, f"{place}/few-{name}-{workers}", *more)
            taken.append(export(source, pipeline, f"{place}/{name}-{workers}", *more)[0])
    one, two = taken
    print(f"cluster, {name}: one worker {one:.1f} s, two {two:.1f} s: {one / two:.2f} ×", flush=True)


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 667
    os.environ.update(ENVIRONMENT)
    with tempfile.TemporaryDirectory() as place:
        source, pipeline = Path(place) / "pictures", Path(place) / "pipeline.json"
        write_pictures(source, count)
        few = Path(place) / "few"
        few.mkdir()
        for path in sorted(source.iterdir())[:24]:
            (few / path.name).write_bytes(path.read_bytes())
        pipeline.write_text(json.dumps(USUAL))
        port = free_port()
        os.environ["AWS_ENDPOINT_URL"] = f"http://127.0.0.1:{port}"
        with running([sys.executable, "-m", "moto.server", "-H", "127.0.0.1", "-p", str(port)]):
            import fsspec

            files = fsspec.filesystem("s3")
            files.mkdir("s3://moths")
            on_a_cluster(str(source), str(few), pipeline, place, "one folder in common")
            for folder, name in ((source, "source"), (few, "few")):
                files.put(str(folder), f"s3://moths/{name}", recursive=True)
            on_a_cluster("s3://moths/source", "s3://moths/few", pipeline, place, "no folder in common", VARLEN_APART="1")
            against_a_store(source, pipeline, place, count * VARIANTS)


if __name__ == "__main__":
    main()
