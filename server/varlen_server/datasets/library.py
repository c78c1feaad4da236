"""Between the core's datasets and the database: import once, load for rendering."""

from __future__ import annotations

import hashlib
from functools import lru_cache
from pathlib import Path

from django.conf import settings
from django.db import transaction
from varlen import dataset as core
from varlen.codec import decode
from varlen.errors import DatasetError
from varlen.formats import read_dataset
from varlen.geometry import Size
from varlen.objects_json import objects_from_json, objects_to_json

from varlen_server import store
from varlen_server.datasets.models import Dataset, Image


def import_dataset(path: Path, name: str) -> Dataset:
    """Read a dataset from a folder or zip into the store and the database, all or nothing.

    Every picture is decoded once, so a damaged one is refused here and not in an export.
    """
    found = read_dataset(path)
    if not found.entries:
        raise DatasetError(f"{path.name}: no images in it")
    rows = []
    for key, entry in found.entries.items():
        data = found.source(key)
        pixels = decode(data, key)
        if pixels.shape[:2] != (entry.size.height, entry.size.width):
            raise DatasetError(
                f"{key}: the picture is {pixels.shape[1]}×{pixels.shape[0]} px, its labels say {entry.size.width}×{entry.size.height} px"
            )
        digest = hashlib.sha256(data).hexdigest()
        store.keep(settings.PICTURES, digest, data)
        boxes = entry.objects.boxes
        smallest = float((boxes[:, 2:] - boxes[:, :2]).min()) if len(boxes) else 0.0
        rows.append(
            Image(key=key, split=entry.split, width=entry.size.width, height=entry.size.height, sha256=digest,
                  objects_json=objects_to_json(entry.objects, found.classes), object_count=len(entry.objects), smallest_side=smallest,
                  extra=entry.extra)
        )  # fmt: skip
    with transaction.atomic():
        dataset = Dataset.objects.create(name=name, digest=found.digest(), classes=list(found.classes), keypoints=list(found.skeleton.names),
                                         lines=[list(line) for line in found.skeleton.edges], extra=found.extra)  # fmt: skip
        for row in rows:
            row.dataset = dataset
        Image.objects.bulk_create(rows, batch_size=500)
    return dataset


@lru_cache(maxsize=4)
def load(dataset_id: int, digest: str) -> core.Dataset:
    """The core's dataset for an imported one; kept per process, since a snapshot never changes."""
    row = Dataset.objects.get(pk=dataset_id, digest=digest)
    classes = tuple(row.classes)
    entries, digests = [], {}
    for image in row.images.all():
        objects = objects_from_json(image.objects_json, classes, image.key)
        entries.append(core.Entry(image.key, image.split, Size(image.width, image.height), objects, image.extra))
        digests[image.key] = image.sha256
    skeleton = core.Skeleton(tuple(row.keypoints), tuple((a, b) for a, b in row.lines))
    files = store.StoredFiles(row.name, settings.PICTURES, digests)
    return core.Dataset(row.name, classes, entries, files, skeleton, row.extra, digests)
