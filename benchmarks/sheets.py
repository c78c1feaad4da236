"""The contact sheet through the running server, cold and warm, as the browser asks for it."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from urllib.request import Request, urlopen

from benchmarks.timing import Table

PROJECT = Path(__file__).resolve().parent.parent
CONNECTIONS = 6  # what a browser opens to one server
ROWS, VARIANTS, WIDTH = 6, 5, 240


def measure(survey: Path) -> Table:
    with server(survey) as address:
        return _measure(address)


@contextmanager
def server(survey: Path) -> Iterator[str]:
    """A Varlen of its own with the survey in it; gives its address."""
    state = PROJECT / ".varlen" / "bench-server"
    shutil.rmtree(state, ignore_errors=True)
    shutil.copytree(survey, state / "demo" / "night-moth-survey")
    environment = {**os.environ, "VARLEN_STATE": str(state), "VARLEN_DEMO_ALONE": "1"}
    process = subprocess.Popen(
        [sys.executable, PROJECT / "scripts" / "start.py", "--port", "8700"], env=environment, stdout=subprocess.PIPE, text=True
    )
    try:
        assert process.stdout is not None
        address = next(line.split()[3].rstrip("/") for line in process.stdout if "http://" in line)
        time.sleep(3)  # kernels are read from disk in the background
        yield address
    finally:
        process.send_signal(signal.SIGINT)
        process.wait(60)
        shutil.rmtree(state, ignore_errors=True)


def _measure(address: str) -> Table:
    table = Table(f"Contact sheet of {ROWS}×{VARIANTS} tiles, sources of 960×720 px, 2 cores", "what", "seconds", "target")
    document = _get(f"{address}/api/pipelines/1")["document"]
    images = [image["id"] for image in _get(f"{address}/api/datasets/1/rows?count={ROWS}")]
    cold = _sheet(address, document, images)
    warm = [_sheet(address, document, images) for _ in range(5)]
    reseeded = [_sheet(address, {**document, "seed": seed}, images) for seed in range(5)]
    table.add("cold, first visit: first tiles", cold[0], "≤ 0.3")
    table.add("cold, first visit: complete", cold[1], "≤ 1.5")
    table.add("new seed (sources decoded): first tiles", sorted(first for first, _ in reseeded)[2], "")
    table.add("new seed (sources decoded): complete", sorted(whole for _, whole in reseeded)[2], "")
    table.add("warm, all asked for again: complete", sorted(whole for _, whole in warm)[2], "≤ 0.15")
    return table


def _get(address: str) -> Any:
    with urlopen(address) as answer:
        return json.load(answer)


def _sheet(address: str, document: dict[str, Any], images: list[int]) -> tuple[float, float]:
    """Seconds to the first row's labels and pictures and to the last, a request for each as the page sends them."""
    start = time.perf_counter()

    def ask(image: int) -> float:
        body = json.dumps({"dataset": 1, "document": document, "images": [image], "variants": VARIANTS, "width": WIDTH}).encode()
        with urlopen(Request(f"{address}/api/sheet", body, {"Content-Type": "application/json"})) as answer:
            assert len(json.load(answer)["rows"][0]["tiles"]) == VARIANTS
        return time.perf_counter() - start

    with ThreadPoolExecutor(CONNECTIONS) as pool:
        times = list(pool.map(ask, images))
    return min(times), max(times)
