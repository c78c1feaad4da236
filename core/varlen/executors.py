"""Getting chunks written: in this process, in processes beside it, or on a Dask cluster."""

from __future__ import annotations

import multiprocessing
import os
import select
import threading
import time
import warnings
from collections.abc import Callable, Iterator
from concurrent.futures import FIRST_COMPLETED, Executor, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from dataclasses import dataclass, replace
from itertools import islice
from multiprocessing import forkserver
from multiprocessing.context import BaseContext
from typing import Any

from varlen.errors import EditionError

#: How often a broken process pool is restarted before giving up.
MAX_POOL_RESTARTS = 5
#: Seconds to wait for a cluster.
CLUSTER_WAIT_S = 20
#: How often what every chunk needs may be lost with the worker that had it.
LOSSES = 100
#: Seconds between two looks at how many workers a cluster has.
CLUSTER_LOOK_S = 2.0


class Cancelled(Exception):
    """The export was told to stop; what is done stays for resuming."""


@dataclass(frozen=True, slots=True)
class ChunkWork:
    """Chunks to be written: their numbers, and the function and arguments that write one and return its count of images.

    taken: what is to be done with what a chunk's writing returned, where that is more than a count.
    """

    numbers: list[int]
    call: Callable[..., Any]
    arguments: Callable[[int], tuple[object, ...]]
    progress: Callable[[int], None]
    stop: Callable[[], bool]
    taken: Callable[[int, Any], int] = lambda number, made: int(made)


def run_here(work: ChunkWork) -> None:
    """One chunk after the other in this process."""
    for number in work.numbers:
        if work.stop():
            raise Cancelled
        work.progress(work.call(*work.arguments(number)))


def run_in_processes(work: ChunkWork, workers: int, forked: bool = False) -> None:
    """In processes of this machine. One that dies takes its pool with it: the rest goes to a new one. forked: they must be copies of this one."""
    left = dict.fromkeys(work.numbers)
    for attempt in range(MAX_POOL_RESTARTS):
        with processes(min(workers, max(1, len(left))), forked=forked) as pool:
            try:
                return _keep_busy(pool, work, left, lambda: workers)
            except BrokenProcessPool:
                if attempt == MAX_POOL_RESTARTS - 1:
                    raise EditionError("worker processes kept dying; there may be too little memory: try --workers 1") from None


def processes(workers: int, begin: Callable[..., None] | None = None, arguments: tuple[object, ...] = (),
              forked: bool = False) -> ProcessPoolExecutor:  # fmt: skip
    """A pool of processes that end with this one; each begins with `begin`. forked: they must be copies of this one."""
    return ProcessPoolExecutor(workers, multiprocessing.get_context("fork") if forked else _context(), _start_worker,
                               (os.getpid(), dict(os.environ), begin, arguments))  # fmt: skip


def _start_worker(maker: int, environment: dict[str, str], begin: Callable[..., None] | None, arguments: tuple[object, ...]) -> None:
    """Begin to watch the process that wants the work: a worker whose maker is killed would wait for more for ever."""
    threading.Thread(target=_end_with, args=(maker,), daemon=True).start()
    # The server that makes processes began with what stood in the environment then; credentials may have come since.
    os.environ.update(environment)
    if begin is not None:
        begin(*arguments)


def _end_with(maker: int) -> None:
    try:
        end = select.poll()
        end.register(os.pidfd_open(maker), select.POLLIN)
        end.poll()
    except ProcessLookupError:
        pass
    except (OSError, AttributeError):  # a kernel that can't tell: look now and then
        while os.path.exists(f"/proc/{maker}"):
            time.sleep(1)
    os._exit(1)


def _context() -> BaseContext:
    """Copies of this process where it has but one thread: they begin at once. Else a server that makes processes."""
    if threading.active_count() == 1:
        return multiprocessing.get_context("fork")
    return _server()


def _server() -> BaseContext:
    """A server that makes processes out of one in which everything is loaded."""
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(["varlen.editions.worker_preload"])
    return context


def start_process_server() -> None:
    """Start the process server in advance, because it takes a second or two; does not wait for it."""
    _server()
    forkserver.ensure_running()


def run_on_cluster(work: ChunkWork, address: str, shared: object) -> None:
    """On a Dask cluster. A worker that dies loses nothing: its chunks go to others; those that come later get chunks as well.

    shared: the first argument of every call, sent to each machine once.
    """
    with _cluster(address) as (client, pool):
        # As a task's result, not as data sent to some workers: of these the last copy may be lost with a worker, this is then made anew.
        with warnings.catch_warnings():
            warnings.filterwarnings("ignore", message="Sending large graph")
            held = client.submit(_itself, shared, pure=False, retries=LOSSES)
        seen = _Workers(client)
        _keep_busy(pool, replace(work, arguments=lambda number: (held, *work.arguments(number))), dict.fromkeys(work.numbers), seen.count)


def _itself(value: object) -> object:
    return value


class _Workers:
    """How many threads of a cluster's workers there are, looked up now and then."""

    def __init__(self, client: Any) -> None:
        self.client, self.asked, self.known = client, -CLUSTER_LOOK_S, 0

    def count(self) -> int:
        now = time.monotonic()
        if now - self.asked >= CLUSTER_LOOK_S:
            self.asked = now
            self.known = sum(worker["nthreads"] for worker in self.client.scheduler_info(n_workers=-1)["workers"].values())
        return max(1, self.known)


@contextmanager
def _cluster(address: str) -> Iterator[tuple[Any, Executor]]:
    try:
        from distributed import Client
    except ImportError:
        raise EditionError("--scheduler needs the package 'distributed'") from None
    try:
        client: Any = Client(address, timeout=CLUSTER_WAIT_S, set_as_default=False)  # type: ignore[no-untyped-call]
    except (OSError, ValueError, TimeoutError) as error:
        raise EditionError(f"{address}: no Dask scheduler answers there ({type(error).__name__})") from None
    with client:
        # A cluster that grows with its work has no worker before there is some.
        waking = client.submit(os.getpid, pure=False)
        end = time.monotonic() + float(os.environ.get("VARLEN_CLUSTER_WAIT") or CLUSTER_WAIT_S)
        while not client.scheduler_info(n_workers=-1)["workers"]:
            if time.monotonic() > end:
                raise EditionError(f"{address}: the scheduler has no workers (VARLEN_CLUSTER_WAIT=600 waits longer, for machines that have to start)")
            time.sleep(0.1)
        waking.release()
        with client.get_executor(pure=False, retries=3) as pool:
            yield client, pool


def _keep_busy(pool: Executor, work: ChunkWork, left: dict[int, None], workers: Callable[[], int]) -> None:
    """Keep every worker busy with no more than a few chunks waiting; `left` loses what is done. workers: how many there are by now."""
    waiting = iter(list(left))
    running: dict[Future[int], int] = {}

    def submit(count: int) -> None:
        for number in islice(waiting, count):
            running[pool.submit(work.call, *work.arguments(number))] = number

    submit(2 * workers())
    try:
        while running:
            finished, _ = wait(running, timeout=0.3, return_when=FIRST_COMPLETED)
            for future in finished:
                number = running.pop(future)
                work.progress(work.taken(number, future.result()))
                del left[number]
            submit(max(0, 2 * workers() - len(running)))
            if work.stop():
                raise Cancelled
    except BaseException:
        for future in running:
            future.cancel()
        raise
