"""What starting up takes: of a small export, and of the application on a machine that has nothing of it yet."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import signal
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from urllib.request import urlopen

from benchmarks.exports import USUAL
from benchmarks.timing import Table

VARLEN = Path(sys.executable).parent / "varlen"
PROJECT = Path(__file__).resolve().parent.parent
TURNS = 7
LONGEST_SECONDS = 600


def measure(survey: Path) -> Table:
    table = Table("Starting up", "what", "seconds, median", "target")
    with tempfile.TemporaryDirectory() as place:
        source, pipeline = Path(place) / "pictures", Path(place) / "usual.json"
        source.mkdir()
        for picture in sorted((survey / "images" / "train").glob("*.jpg"))[:3]:
            shutil.copy(picture, source)
        pipeline.write_text(json.dumps(USUAL))
        command = [VARLEN, "export", source, pipeline, "--variants", "3", "--no-originals", "--accept-loss", "all", "--format", "pictures", "-o"]
        taken = []
        for turn in range(TURNS):
            start = time.perf_counter()
            subprocess.run([*command, Path(place) / str(turn)], check=True, capture_output=True)
            taken.append(time.perf_counter() - start)
    table.add("an export of nine pictures, from the command to its end", statistics.median(taken), "≤ 0.8")
    table.add("a fresh clone, nothing kept of any package: `make start` to the first screen, once", _first_start(), "≤ 90")
    return table


def _first_start() -> float:
    """Seconds from `make start` to the first answer that a sheet can be made from; Debian's packages are there."""
    with tempfile.TemporaryDirectory() as place:
        clone = Path(place) / "varlen"
        subprocess.run(["git", "clone", "-q", PROJECT, clone], check=True)
        empty = {name: str(Path(place) / name) for name in ("UV_CACHE_DIR", "PIP_CACHE_DIR", "npm_config_cache", "NUMBA_CACHE_DIR")}
        environment = {name: value for name, value in os.environ.items() if not name.startswith(("VARLEN_", "VIRTUAL_ENV"))}
        port = 8790
        begun = time.perf_counter()
        running = subprocess.Popen(["make", "start"], cwd=clone, env={**environment, **empty, "VARLEN_PORT": str(port)}, start_new_session=True,
                                   stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)  # fmt: skip
        try:
            while not _answers(port):
                if running.poll() is not None or time.perf_counter() - begun > LONGEST_SECONDS:
                    raise RuntimeError("`make start` did not come to its first screen")
                time.sleep(0.2)
            return time.perf_counter() - begun
        finally:
            os.killpg(running.pid, signal.SIGINT)
            with contextlib.suppress(subprocess.TimeoutExpired):
                running.wait(30)
            subprocess.run([sys.executable, PROJECT / "scripts" / "postgres.py", "stop", "--state", clone / ".varlen" / "database"], check=False,
                           capture_output=True)  # fmt: skip


def _answers(port: int) -> bool:
    try:
        with urlopen(f"http://127.0.0.1:{port}/api/steps", timeout=5) as answer:
            return bool(answer.status == 200)
    except OSError:
        return False
