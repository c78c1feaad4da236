"""The web processes: how many, what each holds ready, and what they share."""

import os
import sys
import threading

#: Where people sign in there are many of them, and downloads beside. One person's requests are taken by one process; tiles by render processes.
SERVES_PEOPLE = os.environ.get("VARLEN_SIGN_IN") == "1"
workers = min(4, os.cpu_count() or 1) if SERVES_PEOPLE else 1
worker_class = "gthread"
threads = 16
keepalive = 75
worker_connections = 400
# A process ends after so many requests, and another takes its place: what it has grown by is given back.
max_requests, max_requests_jitter = (100_000, 20_000) if SERVES_PEOPLE else (0, 0)

# Loaded once, before the processes part: each has everything loaded from its first request on.
preload_app = True


def on_starting(arbiter: object) -> None:
    """Compiled loops are read from disk once, for all processes; at the very first start only those of the first sheet are there."""
    from varlen.render.precompile import for_everything_else, for_first_sheet

    for_first_sheet()
    if os.environ.get("VARLEN_FIRST_START") != "1":
        for_everything_else()


def when_ready(arbiter: object) -> None:
    """Anything but loopback and private sockets only where people sign in."""
    from varlen_server.supervisor import is_loopback

    for listener in arbiter.LISTENERS:  # type: ignore[attr-defined]
        name = listener.sock.getsockname()
        if isinstance(name, tuple) and not is_loopback(name[0]) and not SERVES_PEOPLE:
            sys.exit(f"{name[0]} can be reached from elsewhere, and nobody would have to sign in: use 'make serve', or set VARLEN_SIGN_IN=1")


def child_exit(arbiter: object, worker: object) -> None:
    """Figures of a process that has ended are added up, not lost."""
    if os.environ.get("PROMETHEUS_MULTIPROC_DIR"):
        from prometheus_client.multiprocess import mark_process_dead

        mark_process_dead(worker.pid)  # type: ignore[attr-defined]


def post_worker_init(worker: object) -> None:
    """Start the render processes, and make a first variant in each and here; requests are answered meanwhile."""
    from varlen_server.sheet import render_pool
    from varlen_server.sheet.renderers import warm_up

    # A thread that only passes something on need not wait long for one that computes.
    sys.setswitchinterval(0.001)
    render_pool.start(os.cpu_count() or 1)
    for process in render_pool.render_processes():
        process.submit(warm_up)
    threading.Thread(target=warm_up, daemon=True).start()

    def end() -> None:
        worker.alive = False  # type: ignore[attr-defined]

    threading.Thread(target=render_pool.watch_memory, args=[end], daemon=True).start()
