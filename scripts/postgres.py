#!/usr/bin/python3
"""A private PostgreSQL cluster for this checkout: start, stop, status.

    scripts/postgres.py start [--state DIR] [--fast]     prints where it listens, as JSON
    scripts/postgres.py stop  [--state DIR]
    scripts/postgres.py status [--state DIR]

Standard library only, so that it runs before anything is installed. The cluster lives in
DIR (by default .varlen/database beside this checkout), listens on a loopback port of its own
and nowhere else, and asks for a generated password kept in a file only we can read. It is
installed from Debian's packages when missing. The server refuses to run as root; then it
runs as the system's postgres user, in /var/lib/varlen when that user can't reach DIR.
`--fast` turns off what only matters after a power cut; for tests.
"""

from __future__ import annotations

import argparse
import contextlib
import hashlib
import json
import os
import pwd
import secrets
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from one_of_us import alone

PROJECT = Path(__file__).resolve().parent.parent
ROOT = os.geteuid() == 0


class ReadProblems(Exception):
    """Something that stops us; the message says what to do."""


def binaries() -> Path:
    """The folder of the newest installed server; installs one where there is none."""
    for attempt in range(2):
        found = sorted(Path("/usr/lib/postgresql").glob("*/bin/postgres"), key=lambda path: float(path.parts[-3]))
        if found:
            return found[-1].parent
        if attempt == 0:
            install()
    raise ReadProblems("PostgreSQL is not installed: run 'apt-get install postgresql' as root")


def install() -> None:
    """Install the server without letting it make a cluster of its own."""
    rights = [] if ROOT else ["sudo", "-n"]
    if not shutil.which("apt-get") or (not ROOT and not shutil.which("sudo")):
        raise ReadProblems("PostgreSQL is missing and can't be installed from here: run 'apt-get install postgresql' as root")
    print("installing PostgreSQL …", file=sys.stderr)
    setting = (
        "mkdir -p /etc/postgresql-common/createcluster.d && echo 'create_main_cluster = false' > /etc/postgresql-common/createcluster.d/varlen.conf"
    )
    commands = ["apt-get update -qq", setting, "DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends postgresql"]
    for command in commands:
        done = subprocess.run([*rights, "sh", "-c", command], capture_output=True, text=True)
        if done.returncode:
            raise ReadProblems(f"installing PostgreSQL failed at '{command}': {done.stderr.strip()[-400:]}")


class Cluster:
    """One cluster: `state` is ours (password, port); `data` belongs to the user the server runs as."""

    def __init__(self, state: Path, fast: bool) -> None:
        self.state, self.fast = state, fast
        self.state.mkdir(parents=True, exist_ok=True)
        self.user = "postgres" if ROOT else pwd.getpwuid(os.geteuid()).pw_name
        self.data = self._data_folder()
        self.config = self.state / "database.json"
        self.log = self.data.parent / "server.log"

    def _data_folder(self) -> Path:
        if not ROOT:
            return self.state / "data"
        with contextlib.suppress(KeyError):
            pwd.getpwnam("postgres")
            if subprocess.run(["runuser", "-u", "postgres", "--", "test", "-x", str(self.state)], capture_output=True).returncode == 0:
                return self.state / "server" / "data"
        name = hashlib.sha256(str(self.state).encode()).hexdigest()[:12]
        return Path("/var/lib/varlen") / name / "data"

    def run(self, *command: str | Path, check: bool = True) -> subprocess.CompletedProcess[str]:
        """Run a server command as the user the server runs as."""
        rights = ["runuser", "-u", self.user, "--"] if ROOT else []
        # Output goes to a file: the server inherits it and would keep a pipe open for ever.
        with tempfile.TemporaryFile("w+") as output:
            done = subprocess.run([*rights, *map(str, command)], stdout=output, stderr=output, stdin=subprocess.DEVNULL, cwd="/", text=True)
            output.seek(0)
            text = output.read()
        if check and done.returncode:
            tail = self.log.read_text(errors="replace")[-600:] if self.log.exists() else ""
            raise ReadProblems(f"{Path(command[0]).name} failed: {text.strip()[-600:]} {tail}")
        return subprocess.CompletedProcess(done.args, done.returncode, text)

    def settings(self) -> dict[str, object]:
        """Where the cluster listens and its password."""
        if self.config.exists():
            return dict(json.loads(self.config.read_text()))
        return {"host": "127.0.0.1", "port": free_port(), "user": "varlen", "password": secrets.token_urlsafe(24), "name": "varlen"}

    def save(self, settings: dict[str, object]) -> None:
        part = self.config.with_suffix(".part")
        part.touch(mode=0o600)
        part.write_text(json.dumps(settings))
        part.rename(self.config)

    def create(self, bin_folder: Path, settings: dict[str, object]) -> None:
        """Make the cluster's files when they are not there."""
        if (self.data / "PG_VERSION").exists():
            return
        self.data.parent.mkdir(parents=True, exist_ok=True)
        if ROOT:
            shutil.chown(self.data.parent, "postgres", "postgres")
        self.data.parent.chmod(0o700)
        shutil.rmtree(self.data, ignore_errors=True)
        with tempfile.NamedTemporaryFile("w", prefix="varlen-", delete=False) as secret:
            secret.write(str(settings["password"]))
        try:
            if ROOT:
                shutil.chown(secret.name, "postgres", "postgres")
            self.run(bin_folder / "initdb", "-D", self.data, "-U", str(settings["user"]), "-A", "scram-sha-256", "--pwfile", secret.name,
                     "-E", "UTF8", "--locale", "C.UTF-8")  # fmt: skip
        finally:
            os.unlink(secret.name)

    def server_pid(self) -> int | None:
        """The process that serves this cluster, if it lives: a pid file alone proves nothing after a crash."""
        try:
            pid = int((self.data / "postmaster.pid").read_text().split("\n", 1)[0])
            status = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[0]
        except (OSError, ValueError, IndexError):
            return None
        return pid if status != "Z" and self._is_of_this_cluster(pid) else None

    def _is_of_this_cluster(self, pid: int) -> bool:
        try:
            return Path(os.readlink(f"/proc/{pid}/cwd")) == self.data.resolve() and "postgres" in os.readlink(f"/proc/{pid}/exe")
        except OSError:
            return False

    def left_behind(self) -> list[int]:
        """Processes of a server that was killed: a busy one does not notice until its query ends."""
        return [pid for folder in Path("/proc").glob("[0-9]*") if self._is_of_this_cluster(pid := int(folder.name))]

    def _end_left_behind(self) -> None:
        """None may write to the files once another server does; without its pid file nothing else keeps the two apart."""
        for how in (signal.SIGQUIT, signal.SIGKILL):
            until = time.monotonic() + 5
            while (left := self.left_behind()) and time.monotonic() < until:
                for pid in left:
                    with contextlib.suppress(OSError):
                        os.kill(pid, how)
                time.sleep(0.05)

    def start(self, keep_port: bool = False) -> dict[str, object]:
        """Its settings, once it answers. keep_port: raise `ReadProblems` where the port is taken, in place of choosing another."""
        bin_folder = binaries()
        self.data = self._data_folder()
        self.log = self.data.parent / "server.log"
        settings = self.settings()
        self.create(bin_folder, settings)
        if self.server_pid() is None:
            self._end_left_behind()
            with contextlib.suppress(FileNotFoundError):
                (self.data / "postmaster.pid").unlink()
            if not port_is_free(int(str(settings["port"]))):
                if keep_port:
                    raise ReadProblems(f"another program took the database's port {settings['port']}")
                settings["port"] = free_port()
            options = f"-c listen_addresses=127.0.0.1 -c port={settings['port']} -c unix_socket_directories='' -c max_connections=60"
            options += " -c default_toast_compression=lz4"  # labels are the bulk of what is stored
            if self.fast:
                options += " -c fsync=off -c full_page_writes=off"
            self.run(bin_folder / "pg_ctl", "-D", self.data, "-l", self.log, "-o", options, "-w", "-t", "60", "start")
        self.save(settings)
        self.create_database(bin_folder, settings)
        return settings

    def create_database(self, bin_folder: Path, settings: dict[str, object]) -> None:
        environment = {**os.environ, "PGPASSWORD": str(settings["password"])}
        connect = ["-h", "127.0.0.1", "-p", str(settings["port"]), "-U", str(settings["user"])]
        names = subprocess.run([bin_folder / "psql", *connect, "-d", "postgres", "-tAc", "select datname from pg_database"],
                               env=environment, capture_output=True, text=True)  # fmt: skip
        if names.returncode:
            raise ReadProblems(f"the database does not answer: {names.stderr.strip()}")
        if str(settings["name"]) not in names.stdout.split():
            subprocess.run([bin_folder / "createdb", *connect, str(settings["name"])], env=environment, check=True)

    def stop(self) -> None:
        if self.server_pid() is not None:
            self.run(binaries() / "pg_ctl", "-D", self.data, "-m", "fast", "-w", "stop", check=False)


def port_is_free(port: int) -> bool:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
    return True


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


@contextlib.contextmanager
def locked(state: Path) -> Iterator[None]:
    """One of us at a time."""
    with alone(state / "lock", f"another command has held {state / 'lock'} for two minutes", 120):
        yield


def main() -> int:
    parser = argparse.ArgumentParser(description="The private PostgreSQL cluster of this checkout")
    parser.add_argument("action", choices=["start", "stop", "status"])
    parser.add_argument("--state", type=Path, default=PROJECT / ".varlen" / "database")
    parser.add_argument("--fast", action="store_true")
    options = parser.parse_args()
    try:
        with locked(options.state.absolute()):
            cluster = Cluster(options.state.absolute(), options.fast)
            if options.action == "start":
                print(json.dumps(cluster.start()))
            elif options.action == "stop":
                cluster.stop()
            else:
                pid = cluster.server_pid()
                print(f"running, process {pid}, port {cluster.settings()['port']}" if pid else "stopped")
    except (ReadProblems, OSError) as error:
        print(f"database: {error}", file=sys.stderr)
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
