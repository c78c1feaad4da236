"""What each web process does when it starts: be ready before the first sheet is asked for."""

import threading


def post_worker_init(worker: object) -> None:
    """Read compiled kernels from disk and the first dataset from the database, in the background."""
    threading.Thread(target=_get_ready, daemon=True).start()


def _get_ready() -> None:
    import shapely  # noqa: F401  loaded by the first outline that crosses a frame
    from varlen.raster.warm import warm

    warm()
    from django.db import connection
    from varlen_server.datasets.library import load
    from varlen_server.datasets.models import Dataset

    first = Dataset.objects.first()
    if first is not None:
        load(first.pk, first.digest)
    connection.close()
