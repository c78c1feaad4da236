"""Start everything: database, migrations, demo, worker, web server; start again what dies; stop it all on Ctrl-C.

Run by `make start` and `make serve` with the environment's own Python.
"""

from __future__ import annotations

import argparse
import contextlib
import http.client
import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import time
from datetime import UTC, datetime
from pathlib import Path

import nginx
import postgres
from one_of_us import alone
from varlen_server.backups import UNFINISHED
from varlen_server.supervisor import WILDCARDS, GaveUp, Part, Supervisor, is_loopback, names_of, parse_address

PROJECT = Path(__file__).resolve().parent.parent
SERVER = PROJECT / "server"
STATE = Path(os.environ.get("VARLEN_STATE") or PROJECT / ".varlen")
#: How long another start of the same folder is waited for, seconds.
PATIENCE_S = 15.0


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


def answers(door: socket.socket) -> bool:
    """Whether the application itself answers, not only its port."""
    connection = http.client.HTTPConnection("localhost", timeout=60)
    connection.sock = socket.socket(door.family)
    connection.sock.settimeout(60)
    try:
        connection.sock.connect(door.getsockname())
        connection.request("GET", "/api/session")
        return connection.getresponse().status == 200
    except (OSError, http.client.HTTPException):
        return False
    finally:
        connection.close()


class PrivateDatabase:
    """This checkout's cluster, as the supervisor sees it."""

    def __init__(self) -> None:
        self.cluster = postgres.Cluster((STATE / "database").absolute(), False)

    def alive(self) -> bool:
        return self.cluster.server_pid() is not None

    def start(self) -> None:
        with postgres.locked(self.cluster.state):
            self.cluster.start(keep_port=True)  # all parts know where it was


def listening(host: str, port: int) -> socket.socket:
    """A socket that outlives the web processes: while these are started again, a request waits a moment instead of being refused."""
    made = socket.socket(socket.AF_INET6 if ":" in host else socket.AF_INET)
    made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        made.bind((host, port))
    except OSError as error:
        sys.exit(f"{host}:{port}: {error.strerror}")
    return _opened(made)


def listening_behind_nginx(folder: Path) -> socket.socket:
    """The same on a path that only this user and nginx open."""
    path = nginx.socket_in(folder)
    path.unlink(missing_ok=True)
    made = socket.socket(socket.AF_UNIX)
    made.bind(str(path))
    if os.geteuid() == 0:
        shutil.chown(path, group="www-data")
    path.chmod(0o660)
    return _opened(made)


def _opened(made: socket.socket) -> socket.socket:
    made.listen(2048)
    made.set_inheritable(True)
    return made


def where(options: argparse.Namespace) -> tuple[str, int]:
    """Host and port to listen at. Nobody but this machine's own user comes in without signing in."""
    if not options.address:
        return "127.0.0.1", free_port(options.port)
    try:
        host, port = parse_address(options.address)
    except ValueError as error:
        sys.exit(f"--address: {error}")
    if not options.sign_in and not is_loopback(host):
        sys.exit(f"{host} can be reached from elsewhere, and nobody would have to sign in: use 'make serve ADDRESS={options.address}'")
    return host, port


def set_up(options: argparse.Namespace, host: str) -> None:
    """What the processes are to know, in their environment."""
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # what is compiled once need not be compiled by every process
    os.environ.update(VARLEN_STATE=str(STATE), VARLEN_POOL="1", PROMETHEUS_MULTIPROC_DIR=str(STATE / "metrics"))
    if (PROJECT / ".venv" / "varlen-stamp").exists() and not (PROJECT / ".venv" / "varlen-later").exists():
        os.environ["VARLEN_FIRST_START"] = "1"
    shutil.rmtree(STATE / "metrics", ignore_errors=True)
    (STATE / "metrics").mkdir(parents=True)
    if options.sign_in:
        os.environ["VARLEN_SIGN_IN"] = "1"
        if options.tls_cert:
            os.environ["VARLEN_BEHIND_TLS"] = "1"
        os.environ["VARLEN_HOSTS"] = ",".join([*filter(None, os.environ.get("VARLEN_HOSTS", "").split(",")), *names_of(host)])
    else:
        os.environ.pop("VARLEN_SIGN_IN", None)


def reached_at(host: str, port: int, scheme: str) -> str:
    """The address for a browser on this machine."""
    return f"{scheme}://{'127.0.0.1' if host in WILDCARDS else f'[{host}]' if ':' in host else host}:{port}"


def say_where(options: argparse.Namespace, at: str, link: str) -> None:
    """Say where it is and how to sign in."""
    print(f"\nVarlen is at {at}/   (Ctrl-C stops it)\n", flush=True)
    if not options.sign_in:
        print("Nobody signs in: whoever uses this machine can reach it. 'make serve ADDRESS=HOST:PORT' is for a team.\n", flush=True)
        return
    names = ", ".join(name for name in os.environ["VARLEN_HOSTS"].split(",") if name)
    print(f"It answers to the names {names} (VARLEN_HOSTS adds others).\n", flush=True)
    if link:
        print(f"The first account, which may do everything, is made once, within a day, at\n  {link}\n", flush=True)


def prepare(demo_images: str, link_at: str) -> str:
    """Bring the database up to date, the demo in, editions back; a link by which the first admin makes an account, "" once there is one."""
    wanted = [f"--{name}={value}" for name, value in (("demo-images", demo_images), ("link-at", link_at)) if value]
    made = manage("prepare", *wanted, stdout=subprocess.PIPE)
    said, _ = made.communicate()
    must(made, "preparing the database and the demo")
    return said.decode().strip()


def say(line: str) -> None:
    """What the supervisor has to say, in the form that all logs are wanted in."""
    if os.environ.get("VARLEN_LOG") == "json":
        now = datetime.now(UTC).isoformat(timespec="milliseconds")
        print(json.dumps({"at": now, "level": "warning", "from": "varlen.supervisor", "says": line}), file=sys.stderr, flush=True)
    else:
        print(f"varlen: {line}", file=sys.stderr, flush=True)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--port", type=int, default=int(os.environ.get("VARLEN_PORT", "8417")))
    parser.add_argument("--address", default="", metavar="HOST:PORT", help="instead of a free port on loopback")
    parser.add_argument("--sign-in", action="store_true", help="people have accounts; needed for any address but loopback")
    parser.add_argument("--demo-images", default="60")
    parser.add_argument("--tls-cert", default="", metavar="FILE", help="a certificate with its chain: nginx then speaks TLS")
    parser.add_argument("--tls-key", default="", metavar="FILE", help="the certificate's key")
    options = parser.parse_args()
    if bool(options.tls_cert) != bool(options.tls_key):
        parser.error("--tls-cert and --tls-key belong together")
    check_outside_steps()
    where(options)  # an address that is refused leaves nothing behind
    half = STATE / UNFINISHED
    if half.exists():
        sys.exit(f"{STATE}: a restore from {half.read_text().strip()} did not end; do it again with 'make restore FILE=…', or remove the folder")
    # One that is being stopped needs a moment to end its database.
    with alone(STATE / "running", f"the Varlen of {STATE} is running already; Ctrl-C where it runs, or 'make stop', stops it", PATIENCE_S):
        begin(options)


def begin(options: argparse.Namespace) -> None:
    """Settle where it listens and what its parts are to know; then run."""
    host, port = where(options)
    folder = None
    if options.sign_in:
        certificate = (options.tls_cert, options.tls_key) if options.tls_cert else None
        folder = nginx.prepare(STATE, host, port, PROJECT / "web" / "dist", certificate, os.environ.get("VARLEN_BEHIND_TLS") == "1")
    set_up(options, host)
    run(options, host, port, folder)


def run(options: argparse.Namespace, host: str, port: int, folder: Path | None) -> None:
    """Start everything, keep it running, and stop it."""
    at = reached_at(host, port, "https" if options.tls_cert else "http")
    database("start")
    link = prepare("" if os.environ.get("VARLEN_NO_DEMO") else options.demo_images, at if options.sign_in else "")
    door = listening_behind_nginx(folder) if folder else listening(host, port)
    web = [sys.executable, "-m", "gunicorn", "varlen_server.wsgi", "--bind", f"fd://{door.fileno()}", "--timeout", "120", "--no-control-socket",
           "--log-level", "warning", "-c", "gunicorn_conf.py"]  # fmt: skip
    parts = [
        Part("the worker", lambda: manage("work", start_new_session=True)),
        Part("the web server", lambda: subprocess.Popen(web, cwd=SERVER, start_new_session=True, pass_fds=[door.fileno()])),
    ]
    if folder:
        front = nginx.command(folder)
        parts.append(Part("nginx", lambda: subprocess.Popen(front, start_new_session=True)))
    supervisor = Supervisor(PrivateDatabase(), parts, say)

    def stop(*_: object) -> None:
        supervisor.stopping = True

    signal.signal(signal.SIGINT, stop)
    signal.signal(signal.SIGTERM, stop)
    failed = ""
    more: list[subprocess.Popen[bytes]] = []
    try:
        supervisor.begin()
        while not supervisor.stopping and not answers(door):
            supervisor.look()
            time.sleep(0.1)
        if not supervisor.stopping:
            say_where(options, at, link)
            if not os.environ.get("VARLEN_DEMO_ALONE") and not os.environ.get("VARLEN_NO_DEMO"):
                # Smaller sets for the other pages, with what the processor has left over.
                more.append(manage("load_demo", "--more", start_new_session=True))
            if not os.environ.get("VARLEN_DEMO_ALONE"):
                more.append(subprocess.Popen([PROJECT / "scripts" / "later"], start_new_session=True))
        supervisor.watch()
    except GaveUp as error:
        failed = str(error)
    for process in more:
        with contextlib.suppress(ProcessLookupError):  # what it started itself goes with it
            os.killpg(process.pid, signal.SIGTERM)
    supervisor.stop()
    database("stop")
    if failed:
        sys.exit(f"varlen: {failed}")


if __name__ == "__main__":
    main()
