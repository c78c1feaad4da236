"""A Varlen for a team, started as `make serve` does: what dies comes back, slow clients stop nobody, and nothing is open that should not be."""

from __future__ import annotations

import contextlib
import http.client
import ipaddress
import json
import os
import re
import shutil
import signal
import socket
import ssl
import subprocess
import sys
import time
import urllib.request
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID
from varlen_server.supervisor import GaveUp, Part, Supervisor, is_loopback, names_of, parse_address

from tests.conftest import PROJECT, free_port, until_listened_at

sys.path.insert(0, str(PROJECT / "scripts"))
import nginx
import start

PORT = 8655
#: What is killed is back within so many seconds on a machine that has nothing else to do; tests run beside others.
BACK = 5.0 * 6


class Served:
    def __init__(self, state: Path) -> None:
        command = [sys.executable, PROJECT / "scripts" / "start.py", "--sign-in", "--address", f"127.0.0.1:{PORT}"]
        environment = {**os.environ, "VARLEN_STATE": str(state), "VARLEN_NO_DEMO": "1", "VARLEN_LOG": "json"}
        self.state = state
        self.said = (state / "said.log").open("a")
        self.process = subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, stderr=self.said, text=True)
        assert self.process.stdout is not None
        assert any("/join#" in line for line in self.process.stdout)

    def ask(self, method: str, path: str, headers: dict[str, str] | None = None, patience: float = BACK) -> tuple[int, bytes, dict[str, str]]:
        connection = http.client.HTTPConnection("127.0.0.1", PORT, timeout=patience)
        with contextlib.closing(connection):
            connection.request(method, path, headers=headers or {})
            answer = connection.getresponse()
            return answer.status, answer.read(), dict(answer.getheaders())

    def healthy(self) -> float:
        """Seconds until everything is there again."""
        begun = time.monotonic()
        while time.monotonic() - begun < BACK:
            with contextlib.suppress(OSError, http.client.HTTPException):
                if self.ask("GET", "/healthz")[0] == 200:
                    return time.monotonic() - begun
            time.sleep(0.1)
        raise AssertionError(f"not back after {BACK:.0f} s: {(self.state / 'said.log').read_text()[-2000:]}")

    def children(self, words: str) -> list[int]:
        """Processes under the supervisor whose command holds these words, the oldest first."""
        listed = subprocess.run(["ps", "-o", "pid=,ppid=,args=", "-A"], capture_output=True, text=True, check=True).stdout
        rows = [line.split(None, 2) for line in listed.splitlines()]
        return sorted(int(pid) for pid, parent, args in rows if words in args and int(parent) == self.process.pid)


def wait_until(true: Callable[[], bool], what: str) -> None:
    until = time.monotonic() + BACK
    while not true():
        assert time.monotonic() < until, what
        time.sleep(0.1)


@pytest.fixture(scope="module")
def served() -> Iterator[Served]:
    state = PROJECT / ".varlen" / "serve-test"
    shutil.rmtree(state, ignore_errors=True)
    state.mkdir(parents=True)
    found = Served(state)
    found.healthy()
    yield found
    found.process.send_signal(signal.SIGTERM)
    assert found.process.wait(60) == 0
    shutil.rmtree(state, ignore_errors=True)


def test_a_hundred_slow_clients_stop_nobody(served: Served) -> None:
    """Each sends a byte a second of its request: somebody else's answers come as quickly as before."""
    slow: list[tuple[socket.socket, Iterator[int]]] = []
    head = b"POST /api/session HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\nContent-Length: 400\r\n\r\n" + b"{" * 400
    for number in range(100):
        client = socket.create_connection(("127.0.0.1", PORT))
        # Some stop within the head, some within the body.
        client.send(head[: 20 if number % 2 else 150])
        slow.append((client, iter(head[150:])))
    times = []
    for _ in range(4):
        for client, left in slow:
            with contextlib.suppress(OSError):
                client.send(bytes([next(left)]))
        begun = time.monotonic()
        assert served.ask("GET", "/api/session")[0] == 200
        times.append(time.monotonic() - begun)
        time.sleep(0.8)
    for client, _ in slow:
        client.close()
    assert sorted(times)[1] < 1.0, times


def test_a_hundred_slow_readers_stop_nobody(served: Served) -> None:
    """Each asks for the largest file of the screens, and takes a few bytes of it: nginx holds the rest."""
    page = served.ask("GET", "/")[1].decode()
    largest = max(re.findall(r'"(/assets/[^"]+)"', page), key=lambda name: int(served.ask("HEAD", name)[2]["Content-Length"]))
    slow = []
    for number in range(100):
        client = socket.socket()
        client.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 2048)
        # From addresses of their own, as far as loopback goes: a single one's connections are limited.
        client.bind((f"127.0.1.{number // 2 + 1}", 0))
        client.connect(("127.0.0.1", PORT))
        client.sendall(f"GET {largest if number % 2 else '/'} HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n".encode())
        slow.append(client)
    begun = time.monotonic()
    for client in slow:
        assert client.recv(16).startswith(b"HTTP/1.1 200")
        assert served.ask("GET", "/api/session")[0] == 200
    assert time.monotonic() - begun < BACK
    for client in slow:
        client.close()


def test_connections_of_one_address_are_limited_and_its_name_cannot_be_made_up(served: Served) -> None:
    request = b"GET /api/session HTTP/1.1\r\nHost: 127.0.0.1\r\nX-Forwarded-For: 192.0.2.%d\r\nX-Real-IP: 192.0.2.%d\r\n\r\n"
    open_ones, refused = [], 0
    for _ in range(100):
        client = socket.socket()
        client.bind(("127.0.2.1", 0))
        client.connect(("127.0.0.1", PORT))
        # All but the last line: nginx counts a connection once a request's head is there, so each is a request under way.
        client.sendall(b"POST /api/session HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\nContent-Length: 40\r\n\r\n{")
        open_ones.append(client)
    time.sleep(0.5)
    for client in open_ones:
        client.setblocking(False)
        with contextlib.suppress(BlockingIOError):
            refused += b" 429 " in client.recv(200)
    assert refused == 100 - 64
    assert served.ask("GET", "/api/session")[0] == 200
    for client in open_ones:
        client.close()
    with socket.create_connection(("127.0.0.1", PORT), timeout=BACK) as client:
        client.sendall(request % (1, 1))
        assert b" 200 " in client.recv(100)
    shell = [sys.executable, "manage.py", "shell", "-v", "0", "-c",
             "from varlen_server.requests import address_of\nfrom django.test import RequestFactory\n"
             "print(address_of(RequestFactory(REMOTE_ADDR='').get('/', headers={'X-Real-IP': '127.0.2.1'})), "
             "address_of(RequestFactory(REMOTE_ADDR='127.0.0.1').get('/', headers={'X-Real-IP': '192.0.2.9'})))"]  # fmt: skip
    told = subprocess.run(shell, cwd=PROJECT / "server", env={**os.environ, "VARLEN_STATE": str(served.state)}, capture_output=True, text=True)
    assert told.stdout.split() == ["127.0.2.1", "127.0.0.1"], told.stderr


def test_enormous_and_odd_requests_are_refused_at_once(served: Served) -> None:
    def status(raw: bytes) -> str:
        with socket.create_connection(("127.0.0.1", PORT), timeout=BACK) as client:
            client.sendall(raw)
            return client.recv(200).split(b"\r\n")[0].decode()

    host = b"Host: 127.0.0.1\r\n"
    assert "413" in status(
        b"POST /api/sheet HTTP/1.1\r\n" + host + b"Content-Type: application/json\r\nContent-Length: 99999999999\r\n\r\n" + b"x" * 300_000
    )
    assert "400" in status(b"GET / HTTP/1.1\r\n" + host + b"X: " + b"a" * 200_000)
    assert "400" in status(b"GET /api/datasets HTTP/1.1\r\nHost: elsewhere.example\r\n\r\n")
    assert "401" in status(b"GET /api/datasets HTTP/1.1\r\n" + host + b"\r\n")


def test_what_is_killed_comes_back(served: Served) -> None:
    """The web server, the worker and the database, one after the other; and everything is said."""
    for words in ("gunicorn", "manage.py work", "nginx"):
        (child,) = served.children(words)
        os.kill(child, signal.SIGKILL)
        if words != "nginx":
            # A request in the meantime waits a moment, and is answered.
            assert served.ask("GET", "/api/session")[0] in (200, 502)
        # What the dead one's children still answer does not count: another must be there.
        wait_until(lambda words=words, child=child: served.children(words) not in ([], [child]), words)
        served.healthy()
    about = json.loads((served.state / "database" / "database.json").read_text())
    listed = subprocess.run(["pgrep", "-f", "--", f"port={about['port']}"], capture_output=True, text=True, check=True).stdout.split()
    os.kill(int(listed[0]), signal.SIGKILL)
    for name in (
        "the web server ended (killed by signal 9",
        "the worker ended (killed by signal 9",
        "nginx ended (killed by signal 9",
        "the database ended: started again",
    ):
        wait_until(lambda name=name: name in (served.state / "said.log").read_text(), name)
    served.healthy()


def test_requests_are_logged_as_json_without_their_queries(served: Served) -> None:
    served.ask("GET", "/api/session?name=a-word-nobody-else-uses", {"X-Request-Id": "from-the-proxy-1"})
    deadline = time.monotonic() + 5
    while time.monotonic() < deadline:
        lines = [json.loads(line) for line in (served.state / "said.log").read_text().splitlines() if line.startswith("{")]
        found = [line for line in lines if line.get("request") == "from-the-proxy-1"]
        if found:
            break
    assert found[0]["path"] == "/api/session"
    assert found[0]["status"] == 200
    # The worker and the supervisor speak in the same form.
    assert any(line["from"].startswith("procrastinate") and line["says"].startswith("Starting worker") for line in lines)
    assert "a-word-nobody-else-uses" not in (served.state / "said.log").read_text()


SHOWN = """
def application(environ, start_response):
    start_response("200 OK", [])
    return [" ".join(environ.get(name, "") for name in ("wsgi.url_scheme", "HTTP_X_REAL_IP", "HTTP_X_FORWARDED_FOR", "REMOTE_ADDR")).encode()]
"""


def self_signed(folder: Path) -> tuple[str, str]:
    """A certificate for 127.0.0.1 and its key."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "127.0.0.1")])
    now = datetime.now(UTC)
    address = x509.SubjectAlternativeName([x509.IPAddress(ipaddress.ip_address("127.0.0.1"))])
    made = x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key()).serial_number(1).add_extension(address, False)
    signed = made.not_valid_before(now - timedelta(hours=1)).not_valid_after(now + timedelta(days=1)).sign(key, hashes.SHA256())
    (folder / "cert.pem").write_bytes(signed.public_bytes(serialization.Encoding.PEM))
    (folder / "key.pem").write_bytes(key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()))
    return str(folder / "cert.pem"), str(folder / "key.pem")


@pytest.mark.parametrize("behind", [False, True])
def test_tls_and_what_is_told_of_the_client(tmp_path: Path, behind: bool) -> None:
    """nginx alone before an application that tells what it hears: a certificate of its own, or a proxy that speaks TLS before it."""
    (tmp_path / "shown.py").write_text(SHOWN)
    certificate = None if behind else self_signed(tmp_path)
    port = free_port()
    folder = nginx.prepare(tmp_path / "state", "127.0.0.1", port, tmp_path, certificate, behind)
    door = start.listening_behind_nginx(folder)
    web = [sys.executable, "-m", "gunicorn", "shown:application", "--bind", f"fd://{door.fileno()}", "--no-control-socket"]
    running = [subprocess.Popen(web, cwd=tmp_path, pass_fds=[door.fileno()], stderr=subprocess.DEVNULL), subprocess.Popen(nginx.command(folder))]
    try:
        until_listened_at(port)
        said = {"X-Forwarded-For": "192.0.2.1, 192.0.2.7", "X-Real-IP": "192.0.2.9", "X-Forwarded-Proto": "https" if behind else "http"}
        context = None if behind else ssl.create_default_context(cafile=str(tmp_path / "cert.pem"))
        request = urllib.request.Request(f"http{'' if behind else 's'}://127.0.0.1:{port}/", headers=said)
        with urllib.request.urlopen(request, context=context, timeout=30) as answer:
            heard = answer.read().decode()
        assert heard.split() == ["https", "192.0.2.7" if behind else "127.0.0.1"]
    finally:
        for process in running:
            process.terminate()
            process.wait(30)
        shutil.rmtree(folder, ignore_errors=True)


@pytest.mark.parametrize("address", ["0.0.0.0:8651", "[::]:8651"])
def test_another_address_needs_people_to_sign_in(address: str, tmp_path: Path) -> None:
    command = [sys.executable, PROJECT / "scripts" / "start.py", "--address", address]
    done = subprocess.run(command, env={**os.environ, "VARLEN_STATE": str(tmp_path)}, capture_output=True, text=True, check=False)
    assert done.returncode == 1
    assert "nobody would have to sign in" in done.stderr
    assert list(tmp_path.iterdir()) == []


def test_addresses() -> None:
    assert parse_address("0.0.0.0:80") == ("0.0.0.0", 80)
    assert parse_address("[::1]:8417") == ("::1", 8417)
    for wrong in ("8417", "host", "host:", "host:0", "host:99999", "host:x"):
        with pytest.raises(ValueError, match="expected HOST:PORT"):
            parse_address(wrong)
    assert is_loopback("127.0.0.53")
    assert is_loopback("localhost")
    assert is_loopback("::1")
    assert not is_loopback("0.0.0.0")
    assert not is_loopback("no-such-name.invalid")
    assert names_of("192.0.2.7") == ["192.0.2.7"]
    assert socket.gethostname() in names_of("0.0.0.0")


class _Database:
    def __init__(self) -> None:
        self.lives, self.started = True, 0

    def alive(self) -> bool:
        return self.lives

    def start(self) -> None:
        self.lives = True
        self.started += 1


def _ends_at_once(seconds: float = 0.0) -> subprocess.Popen[bytes]:
    return subprocess.Popen([sys.executable, "-c", f"import time, sys; time.sleep({seconds}); sys.exit(7)"])


def test_three_deaths_in_a_minute_stop_everything_with_a_reason() -> None:
    said: list[str] = []
    lives = subprocess.Popen(["sleep", "60"])
    supervisor = Supervisor(_Database(), [Part("the good one", lambda: lives), Part("the bad one", _ends_at_once)], said.append)
    supervisor.begin()
    with pytest.raises(GaveUp, match=r"the bad one ended 3 times within a minute, at last exit status 7"):
        supervisor.watch()
    supervisor.stop()
    assert lives.wait(5) == -signal.SIGTERM
    assert said == ["the bad one ended (exit status 7): started again"] * 2


def test_what_falls_with_the_database_is_not_counted() -> None:
    said: list[str] = []
    database = _Database()
    begun: list[subprocess.Popen[bytes]] = []

    def start() -> subprocess.Popen[bytes]:
        begun.append(subprocess.Popen(["sleep", "60"]))
        return begun[-1]

    part = Part("the worker", start)
    supervisor = Supervisor(database, [part], said.append)
    supervisor.begin()
    for _ in range(2):
        database.lives = False
        begun[-1].kill()
        begun[-1].wait()
        supervisor.look()
    assert database.started == 2
    assert len(part.deaths) == 0
    database.lives = False
    with pytest.raises(GaveUp, match="the database ended 3 times"):
        supervisor.look()
    supervisor.stop()
