"""The private database: started, found again, and back after a crash."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import psycopg
import pytest

PROJECT = Path(__file__).resolve().parents[2]


@pytest.fixture
def state() -> Iterator[Path]:
    """A folder within the project, where the database's own user can reach it; each test process has its own."""
    folder = PROJECT / ".varlen" / f"database-test-{os.environ.get('PYTEST_XDIST_WORKER', 'alone')}"
    shutil.rmtree(folder, ignore_errors=True)
    yield folder
    run("stop", folder)
    shutil.rmtree(folder, ignore_errors=True)


def run(action: str, state: Path) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, PROJECT / "scripts" / "postgres.py", action, "--state", state, *(["--fast"] if action == "start" else [])]
    return subprocess.run(command, capture_output=True, text=True, timeout=120)


def start(state: Path) -> dict:
    done = run("start", state)
    assert done.returncode == 0, done.stderr
    return dict(json.loads(done.stdout))


def ask(found: dict, question: str, **changes: object) -> object:
    settings = {
        "host": found["host"],
        "port": found["port"],
        "user": found["user"],
        "password": found["password"],
        "dbname": found["name"],
        **changes,
    }
    with psycopg.connect(**settings, connect_timeout=5) as connection:
        row = connection.execute(question).fetchone()
        return row[0] if row else None


def server(state: Path) -> int:
    return int(run("status", state).stdout.split("process ")[1].split(",")[0])


def test_it_is_private_and_found_again(state: Path) -> None:
    found = start(state)
    assert found["host"] == "127.0.0.1"
    assert ask(found, "show listen_addresses") == "127.0.0.1"
    assert ask(found, "show unix_socket_directories") == ""
    assert (state / "database.json").stat().st_mode & 0o077 == 0
    with pytest.raises(psycopg.OperationalError, match="password authentication failed"):
        ask(found, "select 1", password="guessed")
    assert start(state) == found
    run("stop", state)
    assert run("status", state).stdout.strip() == "stopped"
    assert start(state)["password"] == found["password"]


def test_it_is_back_after_a_crash_with_what_was_committed(state: Path) -> None:
    found = start(state)
    with psycopg.connect(host=found["host"], port=found["port"], user=found["user"], password=found["password"], dbname=found["name"]) as connection:
        connection.execute("create table kept as select 42 as answer")
    os.kill(server(state), signal.SIGKILL)
    deadline = time.monotonic() + 90
    while run("status", state).stdout.strip() != "stopped":
        assert time.monotonic() < deadline
    assert ask(start(state), "select answer from kept") == 42


def test_a_pid_file_that_names_someone_else_is_not_believed(state: Path) -> None:
    """After a reboot the number may belong to any other program, which must be left alone."""
    start(state)
    pid_file = next(state.rglob("postmaster.pid"), None)
    if pid_file is None:
        pytest.skip("the data lies where only the database's own user can look")
    lines = pid_file.read_text().splitlines()
    os.kill(server(state), signal.SIGKILL)
    bystander = subprocess.Popen(["sleep", "60"])
    try:
        pid_file.write_text("\n".join([str(bystander.pid), *lines[1:]]) + "\n")
        assert run("status", state).stdout.strip() == "stopped"
        assert ask(start(state), "select 1") == 1
        assert bystander.poll() is None
    finally:
        bystander.kill()
        bystander.wait()


def test_what_a_killed_server_left_behind_ends_before_the_next_begins(state: Path) -> None:
    """A busy process does not notice that its server is gone, and two servers must not write to the same files."""
    found = start(state)
    with psycopg.connect(host=found["host"], port=found["port"], user=found["user"], password=found["password"], dbname=found["name"]) as connection:
        busy = connection.info.backend_pid
        asking = threading.Thread(target=_ask_much, args=(connection,))
        asking.start()
        time.sleep(0.5)
        os.kill(server(state), signal.SIGKILL)
        time.sleep(0.5)
        assert _works(busy)
        assert ask(start(state), "select 1") == 1
        assert not _works(busy)
        asking.join(10)


def _works(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[0] != "Z"
    except OSError:
        return False


def _ask_much(connection: psycopg.Connection) -> None:
    with contextlib.suppress(psycopg.Error):
        connection.execute("select count(*) from generate_series(1, 100000) as a, generate_series(1, 100000) as b, generate_series(1, 1000) as c")


def test_while_everything_runs_the_database_keeps_its_port(state: Path) -> None:
    found = start(state)
    run("stop", state)
    sys.path.insert(0, str(PROJECT / "scripts"))
    import postgres

    cluster = postgres.Cluster(state, True)
    with socket.socket() as other:
        other.bind(("127.0.0.1", int(found["port"])))
        other.listen()
        with pytest.raises(postgres.ReadProblems, match=f"another program took the database's port {found['port']}"):
            cluster.start(keep_port=True)
    assert cluster.start(keep_port=True)["port"] == found["port"]


def test_a_taken_port_is_left_to_whoever_has_it(state: Path) -> None:
    found = start(state)
    run("stop", state)
    with socket.socket() as other:
        other.bind(("127.0.0.1", int(found["port"])))
        other.listen()
        again = start(state)
    assert again["port"] != found["port"]
    assert ask(again, "select 1") == 1
