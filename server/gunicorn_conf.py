"""The web processes: how many, what each keeps, and what they share."""

import os
import sys
import threading
import time

from varlen_server.patient_worker import PatientWorker

workers = min(4, os.cpu_count() or 1)
worker_class = PatientWorker
#: Where people sign in there are many of them, and downloads beside.
SERVES_PEOPLE = os.environ.get("VARLEN_SIGN_IN") == "1"
threads = 16 if SERVES_PEOPLE else 6
keepalive = 75
# A browser keeps six connections. Were they all kept by one process, the others would have nothing to do:
# each keeps its share, and what is beyond it is closed after its answer and comes in anew.
worker_connections = 400 if SERVES_PEOPLE else threads + -(-6 // workers)
# What a process may have grown by in all that time is given back.
max_requests, max_requests_jitter = (100_000, 20_000) if SERVES_PEOPLE else (0, 0)
#: MiB of memory beyond which a web process ends, after its answers, and another takes its place.
MEMORY_LIMIT = int(os.environ.get("VARLEN_WEB_MEMORY", "3072"))

# Loaded once, before the processes part: each has everything at hand from its first request on.
preload_app = True


def on_starting(arbiter: object) -> None:
    """Compiled loops are read from disk once, for all processes; at the very first start there are but those of the first sheet."""
    from varlen.render.precompile import for_everything_else, for_first_sheet

    for_first_sheet()
    if os.environ.get("VARLEN_FIRST_START") != "1":
        for_everything_else()


def when_ready(arbiter: object) -> None:
    """Anything but loopback only where people sign in."""
    from varlen_server.addresses import is_loopback

    for listener in arbiter.LISTENERS:  # type: ignore[attr-defined]
        name = listener.sock.getsockname()
        if isinstance(name, tuple) and not is_loopback(name[0]) and not SERVES_PEOPLE:
            sys.exit(f"{name[0]} can be reached from elsewhere, and nobody would have to sign in: use 'make serve', or set VARLEN_SIGN_IN=1")


def child_exit(arbiter: object, worker: object) -> None:
    """Figures of a process that is gone are added up, not lost."""
    if os.environ.get("PROMETHEUS_MULTIPROC_DIR"):
        from prometheus_client.multiprocess import mark_process_dead

        mark_process_dead(worker.pid)  # type: ignore[attr-defined]


def post_worker_init(worker: object) -> None:
    """Make a first variant in the background; requests are answered meanwhile."""
    from varlen_server.sheet import hands

    # A thread that only hands something on need not wait long for one that computes.
    sys.setswitchinterval(0.001)
    hands.offer(workers)
    threading.Thread(target=_get_ready, daemon=True).start()
    threading.Thread(target=_watch_memory, args=[worker], daemon=True).start()


def _watch_memory(worker: object) -> None:
    page = os.sysconf("SC_PAGE_SIZE")
    while True:
        time.sleep(5)
        with open("/proc/self/statm") as found:
            used = int(found.read().split()[1]) * page >> 20
        if used > MEMORY_LIMIT:
            print(f"a web process has grown to {used} MiB, beyond {MEMORY_LIMIT}: another takes its place", file=sys.stderr, flush=True)
            worker.alive = False  # type: ignore[attr-defined]
            return


def _get_ready() -> None:
    from django.db import connection
    from varlen.pipeline.document import from_json
    from varlen_server.datasets.models import Dataset
    from varlen_server.pipelines.models import Revision
    from varlen_server.sheet.renderers import renderer_of

    dataset, revision = Dataset.objects.first(), Revision.objects.order_by("pipeline", "-number").first()
    if dataset is not None and revision is not None:
        renderer = renderer_of(dataset.pk, dataset.digest, from_json(revision.document))
        for variant in range(1, 4):
            renderer.render(next(iter(renderer.dataset.entries)), variant)
    connection.close()
