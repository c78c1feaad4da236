"""The processes that make tiles: each picture goes to the process that has it decoded; one that dies is replaced. Counting waits for them."""

from __future__ import annotations

import os
import signal
import sys
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from typing import Any

from varlen.executors import processes as new_processes

#: MiB of memory beyond which a process ends, and another takes its place.
MEMORY_LIMIT = int(os.environ.get("VARLEN_WEB_MEMORY", "3072"))


class RenderProcess:
    """One process and its queue."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._pool = _new_process()

    def submit(self, call: Callable[..., Any], *arguments: Any) -> Future[Any]:
        """Begin a call there; in a new process where the old one has died."""
        with self._lock:
            try:
                return self._pool.submit(call, *arguments)
            except BrokenProcessPool:
                self._pool.shutdown(wait=False)
                self._pool = _new_process()
                return self._pool.submit(call, *arguments)


#: Those of this web process. Where there are none, as in tests and commands, tiles are made by the caller.
_running: list[RenderProcess] = []


def start(count: int) -> None:
    """Start the processes; called once in each web process."""
    _running.extend(RenderProcess() for _ in range(count))
    for each in _running:
        each.submit(os.getpid)


def render_processes() -> list[RenderProcess]:
    return _running


def _new_process() -> ProcessPoolExecutor:
    return new_processes(1, _set_up)


def _set_up() -> None:
    """What a render process needs before its first tile; its web process's signals are not for it."""
    for number in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP, signal.SIGUSR1, signal.SIGUSR2, signal.SIGQUIT, signal.SIGABRT, signal.SIGCHLD):
        signal.signal(number, signal.SIG_IGN if number == signal.SIGINT else signal.SIG_DFL)
    import django

    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "varlen_server.settings")
    django.setup()

    threading.Thread(target=watch_memory, args=[lambda: os._exit(1)], daemon=True).start()


def watch_memory(end: Callable[[], None]) -> None:
    """Call `end` once this process has grown beyond `MEMORY_LIMIT`; looks every five seconds."""
    page = os.sysconf("SC_PAGE_SIZE")
    while True:
        time.sleep(5)
        with open("/proc/self/statm") as found:
            used = int(found.read().split()[1]) * page >> 20
        if used > MEMORY_LIMIT:
            print(f"a web process has grown to {used} MiB, beyond {MEMORY_LIMIT}: another takes its place", file=sys.stderr, flush=True)
            return end()


_changed = threading.Condition()
_waiting = 0
#: However much is waited for, counting resumes after this many seconds.
LONGEST = 2.0


@contextmanager
def foreground() -> Iterator[None]:
    """While this lasts a request waits for pictures; counting pauses."""
    global _waiting
    with _changed:
        _waiting += 1
    try:
        yield
    finally:
        with _changed:
            _waiting -= 1
            _changed.notify_all()


def yield_to_foreground() -> None:
    """Called now and then by what is counted in the background: pauses while a request waits for pictures."""
    with _changed:
        _changed.wait_for(lambda: _waiting == 0, LONGEST)
