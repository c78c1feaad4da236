"""Exports killed in every format at every stage, and every process of a team's server, again and again."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest
from varlen.datasets.formats import WRITERS
from varlen.editions.verify import verify

from tests.scripts.test_serve import Served, served

__all__ = ["served"]
#: When an export is killed, as shares of the time it takes undisturbed: while it reads, makes pictures, and puts files together.
MOMENTS = (0.45, 0.65, 0.8, 0.95)


def _order(survey_folder: Path, out: Path, form: str) -> list[str]:
    return [sys.executable, "-m", "varlen", "export", str(survey_folder), str(survey_folder / "pipelines" / "lamp-drift.varlen.json"), "-o", str(out),
            "--variants", "6", "--format", form, "--accept-loss", "all", "--workers", "2", "--resume"]  # fmt: skip


def _digest(out: Path) -> str:
    return str(json.loads((out / "edition.json").read_text())["output_digest"])


@pytest.mark.parametrize("form", WRITERS)
def test_exports_in_every_format(survey_folder: Path, tmp_path: Path, form: str) -> None:
    begun = time.monotonic()
    subprocess.run(_order(survey_folder, tmp_path / "whole", form), check=True, capture_output=True)
    took = time.monotonic() - begun
    for share in MOMENTS:
        out = tmp_path / f"killed-{share}"
        process = subprocess.Popen(_order(survey_folder, out, form), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True)
        try:
            process.wait(took * share)
        except subprocess.TimeoutExpired:
            os.killpg(process.pid, signal.SIGKILL)
            process.wait()
        subprocess.run(_order(survey_folder, out, form), check=not out.exists(), capture_output=True)
        assert _digest(out) == _digest(tmp_path / "whole"), share
        assert verify(out) == []
    assert sorted(path.name for path in tmp_path.iterdir()) == sorted(["whole", *(f"killed-{share}" for share in MOMENTS)])


#: What ends three times within a minute counts as a program that can't stay up; when in a turn the database is killed varies by some seconds.
APART_S = 40.0


@pytest.mark.parametrize("turn", range(10))
def test_processes_of_a_server(served: Served, turn: int) -> None:
    """Back within five seconds, where nothing else runs."""
    first = time.monotonic()
    slow = []
    for words in ("gunicorn", "manage.py work", "nginx", "database"):
        if words == "database":
            about = json.loads((served.state / "database" / "database.json").read_text())
            listed = subprocess.run(["pgrep", "-f", "--", f"port={about['port']}"], capture_output=True, text=True, check=True).stdout
            killed = int(listed.split()[0])
        else:
            (killed,) = served.children(words)
        os.kill(killed, signal.SIGKILL)
        begun = time.monotonic()
        while words != "database" and served.children(words) in ([], [killed]):
            time.sleep(0.05)
        served.healthy()
        took = time.monotonic() - begun
        print(f"{words}: back after {took:.1f} s")
        if took > 5:
            slow.append(f"{words}: {took:.1f} s")
    time.sleep(max(0.0, APART_S - (time.monotonic() - first)))
    assert slow == []
