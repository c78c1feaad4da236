"""Clients that take their answers slowly: they keep a thread for as long as nobody else wants it."""

from __future__ import annotations

import contextlib
import socket
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest
from varlen_server.patient_worker import AT_LEAST_EVERY, LEAST_TAKEN, AnswerSocket

from tests.conftest import PROJECT, free_port, until_listened_at

LARGE = 20 << 20
APP = f"""
def application(environ, start_response):
    large = environ["PATH_INFO"] == "/large"
    start_response("200 OK", [("Content-Length", str({LARGE} if large else 2))])
    return [bytes(1 << 20)] * {LARGE >> 20} if large else [b"ok"]
"""


def ask(port: int, path: str, who: str) -> socket.socket:
    client = socket.socket()
    client.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
    client.connect(("127.0.0.1", port))
    client.sendall(f"GET {path} HTTP/1.1\r\nHost: here\r\nAuthorization: Bearer {who}\r\nConnection: close\r\n\r\n".encode())
    return client


def take_slowly(clients: list[socket.socket], ended: threading.Event) -> None:
    """A byte a second of each, as far as there is one."""
    while not ended.wait(1):
        for client in clients:
            with contextlib.suppress(OSError):
                client.recv(1, socket.MSG_DONTWAIT)


def test_slow_readers_stop_nobody(tmp_path: Path) -> None:
    """Twelve who take a byte a second of something large, for four threads; then one who wants something small."""
    (tmp_path / "app.py").write_text(APP)
    port = free_port()
    command = [sys.executable, "-m", "gunicorn", "app:application", "-k", "varlen_server.patient_worker.PatientWorker", "--threads", "4",
               "--bind", f"127.0.0.1:{port}", "--pythonpath", str(PROJECT / "server")]  # fmt: skip
    slow: list[socket.socket] = []
    ended = threading.Event()
    process = subprocess.Popen(command, cwd=tmp_path, stderr=subprocess.DEVNULL)
    try:
        until_listened_at(port)
        slow += [ask(port, "/large", f"somebody-{number}") for number in range(12)]
        time.sleep(1)
        threading.Thread(target=take_slowly, args=(slow, ended), daemon=True).start()
        begun = time.monotonic()
        with ask(port, "/small", "somebody-else") as quick:
            quick.settimeout(60)
            answer = b""
            while part := quick.recv(4096):
                answer += part
        assert answer.endswith(b"ok")
        assert time.monotonic() - begun < 12 * AT_LEAST_EVERY
    finally:
        ended.set()
        for client in slow:
            client.close()
        process.terminate()
        process.wait(60)


@pytest.mark.parametrize("crowded", [True, False])
def test_whoever_takes_too_little_is_given_up_only_while_others_wait(crowded: bool) -> None:
    here, there = socket.socketpair()
    here.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, 4096)
    sending = AnswerSocket(here, lambda: crowded)
    sending.settimeout(60)
    data, got = bytes(range(256)) * (LEAST_TAKEN // 128), bytearray()

    def take() -> None:
        """Nothing for a while, then all of it."""
        time.sleep(3 * AT_LEAST_EVERY)
        while part := there.recv(65536):
            got.extend(part)

    reader = threading.Thread(target=take)
    reader.start()
    if crowded:
        with pytest.raises(TimeoutError):
            sending.sendall(data)
    else:
        sending.sendall(data)
    assert sending.gettimeout() == 60
    sending.close()
    reader.join()
    assert (bytes(got) == data) == (not crowded)
    there.close()


def test_whoever_takes_enough_gets_all_of_it_though_others_wait() -> None:
    here, there = socket.socketpair()
    sending = AnswerSocket(here, lambda: True)
    data, got = bytes(6 * LEAST_TAKEN), bytearray()

    def take() -> None:
        while part := there.recv(LEAST_TAKEN):
            got.extend(part)
            time.sleep(0.2)

    reader = threading.Thread(target=take)
    reader.start()
    sending.sendall(data)
    sending.close()
    reader.join()
    assert bytes(got) == data
    there.close()
