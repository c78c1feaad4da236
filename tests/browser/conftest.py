"""A whole Varlen as `make start` runs it, with folders and a database of its own, and a real browser."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import BrowserContext, expect

# How long a screen may take is the benchmarks' business. A test only says that it comes, also on a busy machine.
PATIENCE_MS = int(os.environ.get("VARLEN_PATIENCE_MS", "120000"))
expect.set_options(timeout=PATIENCE_MS)

PROJECT = Path(__file__).resolve().parents[2]
CHROMIUM = [
    "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--in-process-gpu", "--disable-gpu-compositing",
]  # fmt: skip


@pytest.fixture(scope="session")
def browser_type_launch_args() -> dict[str, Any]:
    return {"executable_path": shutil.which("chromium") or "/usr/bin/chromium", "args": CHROMIUM}


@pytest.fixture(scope="session")
def browser_context_args() -> dict[str, Any]:
    """Reduced motion, so that nothing is judged half way through a fade."""
    return {"viewport": {"width": 1280, "height": 800}, "accept_downloads": True, "reduced_motion": "reduce", "color_scheme": "dark"}


@pytest.fixture(autouse=True)
def patient(context: BrowserContext) -> None:
    context.set_default_timeout(PATIENCE_MS)


@pytest.fixture(scope="session")
def state() -> Iterator[Path]:
    """The folder of this Varlen; inside the project, where the database's own user can reach it."""
    folder = PROJECT / ".varlen" / "browser-test"
    shutil.rmtree(folder, ignore_errors=True)
    yield folder
    shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture(scope="session")
def varlen_address(state: Path, survey_folder: Path) -> Iterator[str]:
    """Where the application listens. The demo is the tests' small survey."""
    shutil.copytree(survey_folder, state / "demo" / "night-moth-survey")
    yield from running(state, 8600, VARLEN_DEMO_ALONE="1")


def running(state: Path, port: int, **environment: str) -> Iterator[str]:
    """Varlen as the start command runs it; its address, until it is ended."""
    command = [sys.executable, PROJECT / "scripts" / "start.py", "--port", str(port)]
    process = subprocess.Popen(command, env={**os.environ, "VARLEN_STATE": str(state), **environment}, stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    address = ""
    for line in process.stdout:
        if "http://" in line:
            address = line.split()[3].rstrip("/")
            break
    assert address, "the application did not start"
    yield address
    process.send_signal(signal.SIGINT)
    process.wait(60)
