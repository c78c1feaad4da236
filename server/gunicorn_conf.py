"""What each web process does when it starts: be ready before the first sheet is asked for."""

import threading


def post_worker_init(worker: object) -> None:
    """Get ready in the background; requests are answered meanwhile."""
    threading.Thread(target=_get_ready, daemon=True).start()


def _get_ready() -> None:
    """Read compiled kernels from disk and the first dataset from the database, and make one variant."""
    from varlen.raster.warm import warm

    warm()
    from django.db import connection
    from varlen.pipeline import from_json
    from varlen_server.datasets.models import Dataset
    from varlen_server.pipelines.library import register
    from varlen_server.pipelines.models import Revision
    from varlen_server.sheet.renderers import renderer_for

    dataset, revision = Dataset.objects.first(), Revision.objects.order_by("pipeline", "-number").first()
    if dataset is not None and revision is not None:
        renderer = renderer_for(dataset.pk, dataset.digest, register(from_json(revision.document)))
        for variant in range(1, 4):
            renderer.render(next(iter(renderer.dataset.entries)), variant)
    connection.close()
