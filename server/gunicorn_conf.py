"""The web processes: how many, what each keeps, and what they share."""

import os
import sys
import threading

workers = min(4, os.cpu_count() or 1)
worker_class = "gthread"
threads = 6
keepalive = 75
# A browser keeps six connections. Were they all kept by one process, the others would have nothing to do:
# each keeps its share, and what is beyond it is closed after its answer and comes in anew.
worker_connections = threads + -(-6 // workers)

# Loaded once, before the processes part: each has everything at hand from its first request on.
preload_app = True


def on_starting(arbiter: object) -> None:
    """Compiled loops are read from disk once, for all processes."""
    from varlen.render.precompile import precompile

    precompile()


def post_worker_init(worker: object) -> None:
    """Make a first variant in the background; requests are answered meanwhile."""
    from varlen_server.sheet import hands

    # A thread that only hands something on need not wait long for one that computes.
    sys.setswitchinterval(0.001)
    hands.offer(workers)
    threading.Thread(target=_get_ready, daemon=True).start()


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
