"""What each web process does when it starts: load the kernels before the first picture is asked for."""

import threading


def post_worker_init(worker: object) -> None:
    """Read compiled kernels from disk in the background."""
    from varlen.raster.warm import warm

    threading.Thread(target=warm, daemon=True).start()
