"""Everything killed at once in the middle of an export: started again, it continues to the same digest."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any
from urllib.request import Request, urlopen

import psutil
import pytest
from varlen.datasets.formats import read_dataset
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.verify import verify
from varlen.pipeline.document import from_json

PROJECT = Path(__file__).resolve().parents[2]


class Running:
    """A Varlen as `make start` runs it, that can be killed."""

    def __init__(self, state: Path) -> None:
        self.state = state
        command = [sys.executable, PROJECT / "scripts" / "start.py", "--port", "8650"]
        self.process = subprocess.Popen(
            command, env={**os.environ, "VARLEN_STATE": str(state), "VARLEN_DEMO_ALONE": "1"}, stdout=subprocess.PIPE, text=True
        )
        assert self.process.stdout is not None
        self.address = next(line.split()[3].rstrip("/") for line in self.process.stdout if "http://" in line)

    def call(self, path: str, body: dict[str, Any] | None = None) -> Any:
        data = None if body is None else json.dumps(body).encode()
        with urlopen(Request(self.address + path, data, {"Content-Type": "application/json"}), timeout=90) as answer:
            return json.load(answer)

    def kill(self) -> None:
        """Web server, worker and its processes, and the database, all at once: nothing gets a chance to clean up."""
        own = psutil.Process(self.process.pid)
        database = self._postmaster()
        for each in [own, *own.children(recursive=True), database, *database.children(recursive=True)]:
            with contextlib.suppress(psutil.NoSuchProcess):  # gone with another
                each.kill()
        self.process.wait(60)

    def _postmaster(self) -> psutil.Process:
        port = json.loads((self.state / "database" / "database.json").read_text())["port"]
        return next(each for each in psutil.process_iter(["cmdline"]) if f"port={port}" in (each.info["cmdline"] or []))

    def stop(self) -> None:
        self.process.send_signal(signal.SIGINT)
        self.process.wait(60)


@pytest.mark.slow
def test_everything_is_killed_and_started_again_and_the_export_goes_on(survey_folder: Path, lamp_drift: dict[str, Any], tmp_path: Path) -> None:
    order = {"variants": 25, "originals": False}
    expected = export(read_dataset(survey_folder), from_json(lamp_drift), tmp_path / "whole", ExportSpec(**order), workers=2)  # type: ignore[arg-type]
    state = PROJECT / ".varlen" / "crash-test"
    shutil.rmtree(state, ignore_errors=True)
    shutil.copytree(survey_folder, state / "demo" / "night-moth-survey")
    running = Running(state)
    try:
        edition = running.call("/api/editions", {"name": "Killed", "dataset": 1, "document": lamp_drift, **order})["id"]
        _wait(running, edition, lambda found: found["done"] > 0)
        running.kill()
        assert not (state / "editions" / f"edition-{edition}").exists()
        running = Running(state)
        found = _wait(running, edition, lambda found: found["state"] not in ("waiting", "writing"))
        assert (found["state"], found["output_digest"]) == ("done", expected["output_digest"]), found["message"]
        assert verify(Path(found["path"])) == []
        running.stop()
    finally:
        if running.process.poll() is None:
            running.kill()
        shutil.rmtree(state, ignore_errors=True)


def _wait(running: Running, edition: int, enough: Any, seconds: float = 240) -> dict[str, Any]:
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        found: dict[str, Any] = running.call(f"/api/editions/{edition}")
        if enough(found):
            return found
        time.sleep(0.1)
    raise AssertionError(f"after {seconds} s: {found['state']}, {found['done']} of {found['total']}")
