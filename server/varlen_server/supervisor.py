"""Where this server listens, under which names it may be asked, and what keeps its parts alive: what dies is started again.

No Django here: it must stay when all else goes.
"""

from __future__ import annotations

import contextlib
import ipaddress
import os
import signal
import socket
import subprocess
import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Protocol

WILDCARDS = ("0.0.0.0", "::", "")


def parse_address(text: str) -> tuple[str, int]:
    """HOST:PORT, the host of version 6 in brackets. Raises `ValueError` with what is expected."""
    host, colon, port = text.rpartition(":")
    if not colon or not port.isdigit() or not 0 < int(port) < 65536:
        raise ValueError(f"expected HOST:PORT, as 0.0.0.0:8417, not {text!r}")
    return host.strip("[]"), int(port)


def is_loopback(host: str) -> bool:
    """Whether only this machine reaches the address. A name is looked up: every address of it must be loopback."""
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        pass
    try:
        found = {info[4][0] for info in socket.getaddrinfo(host, None)}
    except OSError:
        return False
    return bool(found) and all(ipaddress.ip_address(str(each)).is_loopback for each in found)


def names_of(host: str) -> list[str]:
    """Names under which a server at `host` is meant: for all addresses at once, this machine's own name and addresses."""
    if host not in WILDCARDS:
        return [f"[{host}]" if ":" in host else host]
    found = {socket.gethostname(), socket.getfqdn()}
    with contextlib.suppress(OSError):
        found |= {str(info[4][0]) for info in socket.getaddrinfo(socket.gethostname(), None)}
    try:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as probe:
            probe.connect(("192.0.2.1", 9))  # nothing is sent: it only says which address would be ours
            found.add(probe.getsockname()[0])
    except OSError:
        pass
    return sorted(f"[{each}]" if ":" in each else each for each in found if each and "%" not in each)


#: So many deaths within so many seconds are no accident.
DEATHS, WITHIN = 3, 60.0
#: What falls with the database is not counted; the worker notices late, and ends of itself after what it is at.
CONSEQUENCE = 30.0
EVERY = 0.2


class Database(Protocol):
    """What is to be known of the database."""

    def alive(self) -> bool: ...

    def start(self) -> None: ...


class GaveUp(Exception):
    """Something died too often; the message says what, and how."""


@dataclass
class Part:
    """A process that is to live. start: begins it."""

    name: str
    start: Callable[[], subprocess.Popen[bytes]]
    process: subprocess.Popen[bytes] | None = None
    deaths: deque[float] = field(default_factory=deque)

    def begin(self) -> None:
        self.process = self.start()

    def end_the_rest(self) -> None:
        """Ask what the dead process has started to end: its successor starts its own."""
        if self.process is not None:
            with contextlib.suppress(ProcessLookupError, PermissionError):
                os.killpg(self.process.pid, signal.SIGTERM)

    def ended(self) -> str:
        """How it ended, in words; "" while it lives."""
        status = None if self.process is None else self.process.poll()
        if status is None:
            return ""
        return f"killed by signal {-status} ({signal.Signals(-status).name})" if status < 0 else f"exit status {status}"


class Supervisor:
    """Watches the database and some parts. say: where to tell what happens."""

    def __init__(self, database: Database, parts: list[Part], say: Callable[[str], None]) -> None:
        self.database, self.parts, self.say = database, parts, say
        self.stopping = False
        self._database = Part("the database", lambda: None)  # type: ignore[arg-type,return-value]
        self._fell = -WITHIN

    def begin(self) -> None:
        for part in self.parts:
            part.begin()

    def look(self) -> None:
        """Start again what has died. Raises `GaveUp`."""
        if not self.database.alive():
            self._fell = time.monotonic()
            self._count(self._database, "it ended")
            self._start_database()
        for part in self.parts:
            if how := part.ended():
                if time.monotonic() - self._fell > CONSEQUENCE:
                    self._count(part, how)
                self.say(f"{part.name} ended ({how}): started again")
                part.end_the_rest()
                part.begin()

    def _start_database(self) -> None:
        """Its processes may take a moment to be gone."""
        for attempt in range(20):
            try:
                self.database.start()
            except Exception as error:
                if attempt == 19:
                    raise GaveUp(f"the database can't be started again: {error}") from None
                time.sleep(0.25)
            else:
                self.say("the database ended: started again")
                return

    def _count(self, part: Part, how: str) -> None:
        now = time.monotonic()
        part.deaths.append(now)
        while part.deaths[0] < now - WITHIN:
            part.deaths.popleft()
        if len(part.deaths) >= DEATHS:
            raise GaveUp(f"{part.name} ended {DEATHS} times within a minute, at last {how}: what it said stands above. Everything is stopped.")

    def watch(self) -> None:
        """Until somebody says stop. Raises `GaveUp`."""
        while not self.stopping:
            self.look()
            time.sleep(EVERY)

    def stop(self, patience: float = 15.0) -> None:
        """End all parts: at first asked to, then forced."""
        for part in self.parts:
            if part.process is not None and part.process.poll() is None:
                part.process.terminate()
        until = time.monotonic() + patience
        for part in self.parts:
            if part.process is None:
                continue
            try:
                part.process.wait(max(0.1, until - time.monotonic()))
            except subprocess.TimeoutExpired:
                os.killpg(part.process.pid, signal.SIGKILL)
