"""Start everything: database, migrations, demo, worker, web server; stop it all on Ctrl-C.

Run by `make start` with the environment's own Python.
"""

from __future__ import annotations

import argparse
import importlib.util
import os
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

PROJECT = Path(__file__).resolve().parent.parent
SERVER = PROJECT / "server"
STATE = Path(os.environ.get("VARLEN_STATE") or PROJECT / ".varlen")


def database(action: str, *options: str) -> None:
    done = subprocess.run(
        [sys.executable, PROJECT / "scripts" / "postgres.py", action, "--state", STATE / "database", *options], stdout=subprocess.DEVNULL
    )
    if done.returncode:
        sys.exit(1)


def manage(*arguments: str, **options: object) -> subprocess.Popen[bytes]:
    return subprocess.Popen([sys.executable, "manage.py", *arguments], cwd=SERVER, **options)  # type: ignore[call-overload,no-any-return]


def must(process: subprocess.Popen[bytes], what: str) -> None:
    if process.wait():
        sys.exit(f"{what} failed")


def free_port(wanted: int) -> int:
    """The wanted port, or the next that is free."""
    for port in range(wanted, wanted + 50):
        with socket.socket() as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind(("127.0.0.1", port))
            except OSError:
                continue
            return port
    sys.exit(f"no free port from {wanted} to {wanted + 49}")


def check_outside_steps() -> None:
    """Steps of one's own must load before anything is started; relative paths count from where the command was given."""
    named = os.environ.get("VARLEN_STEPS", "")
    if not named:
        return
    os.environ["VARLEN_STEPS"] = os.pathsep.join(str(Path(path).absolute()) for path in named.split(os.pathsep) if path)
    done = subprocess.run([sys.executable, "-m", "varlen", "steps"], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
    if done.returncode:
        sys.exit(done.stderr.strip())


def install_probe() -> None:
    """The packages of the probe, which is asked for later than the first screen if at all; without them it says how to get them."""
    if importlib.util.find_spec("jax") is None:
        subprocess.Popen(
            ["nice", "-n", "19", PROJECT / ".venv/bin/uv", "pip", "install", "-q", "--require-hashes", "-r", PROJECT / "requirements/probe.lock"],
            env={**os.environ, "VIRTUAL_ENV": str(PROJECT / ".venv")}, start_new_session=True,
        )  # fmt: skip


def answers(port: int) -> bool:
    """Whether the application itself answers, not only its port."""
    try:
        with urllib.request.urlopen(f"http://127.0.0.1:{port}/api/steps", timeout=60) as answer:
            return int(answer.status) == 200
    except OSError:
        return False


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--port", type=int, default=int(os.environ.get("VARLEN_PORT", "8417")))
    parser.add_argument("--demo-images", default="60")
    options = parser.parse_args()
    check_outside_steps()
    os.environ["VARLEN_STATE"] = str(STATE)
    os.environ["VARLEN_POOL"] = "1"
    database("start")
    must(manage("migrate", "--verbosity", "0"), "preparing the database")
    must(manage("load_demo", "--images", options.demo_images), "loading the demo")
    must(manage("find_editions"), "looking through the editions")
    port = free_port(options.port)
    running = [
        manage("work", start_new_session=True),
        subprocess.Popen(
            [sys.executable, "-m", "gunicorn", "varlen_server.wsgi", "--bind", f"127.0.0.1:{port}", "--timeout", "120", "--no-control-socket",
             "--log-level", "warning", "-c", "gunicorn_conf.py"],
            cwd=SERVER, start_new_session=True),
    ]  # fmt: skip
    more: subprocess.Popen[bytes] | None = None
    stopping = False

    def stop(*_: object) -> None:
        nonlocal stopping
        stopping = True

    signal.signal(signal.SIGINT, stop)
    signal.signal(signal.SIGTERM, stop)
    while not stopping and not answers(port) and all(process.poll() is None for process in running):
        time.sleep(0.1)
    if not stopping and all(process.poll() is None for process in running):
        print(f"\nVarlen is at http://127.0.0.1:{port}/   (Ctrl-C stops it)\n", flush=True)
        if not os.environ.get("VARLEN_DEMO_ALONE"):
            # Smaller sets for the other pages, with what the processor has left over.
            more = manage("load_demo", "--more", start_new_session=True)
            install_probe()
    while not stopping and all(process.poll() is None for process in running):
        time.sleep(0.2)
    for process in [*running, *([more] if more else [])]:
        if process.poll() is None:
            process.terminate()
    for process in running:
        try:
            process.wait(15)
        except subprocess.TimeoutExpired:
            process.kill()
    database("stop")
    if not stopping:
        sys.exit("a server process ended unexpectedly; see the messages above")


if __name__ == "__main__":
    main()
