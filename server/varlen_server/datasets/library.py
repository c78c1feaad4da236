"""Between the core's datasets and the database: bring in, examine, load for rendering."""

from __future__ import annotations

import os
from collections.abc import Callable
from functools import lru_cache, partial
from itertools import islice
from pathlib import Path

from django.conf import settings
from django.db import connection, transaction
from varlen.datasets import dataset as core
from varlen.datasets.dataset import check_map_size
from varlen.datasets.digests import map_digest, whole_digest
from varlen.datasets.image_files import decode_levels
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.importer import Importer
from varlen.errors import DatasetError
from varlen.model.geometry import Size
from varlen.model.objects import Objects
from varlen.shapes.objects_json import objects_from_json, objects_to_json

from varlen_server import store
from varlen_server.datasets.models import Dataset, Image
from varlen_server.datasets.rows import MakesRows, Row, measures_of

ROWS_AT_ONCE = 200

Progress = Callable[[int], None]


def bring_in(path: Path, name: str, choices: ImportOptions | None = None, source: str = "", progress: Progress = lambda done: None,
             begun: Callable[[Dataset], None] = lambda dataset: None) -> Dataset:  # fmt: skip
    """Read a dataset from a folder or zip into the store and the database, all or nothing.

    What can't be read is left out and noted among the findings, so that one bad file does not
    keep the others away; a dataset of which nothing can be read is refused. Whatever `progress`
    raises ends it, and nothing stays. `source`: where the files can be found again; `begun` is told of the row that is not ready yet.
    """
    intake = Importer(path, choices or ImportOptions())
    reading = intake.reading
    dataset = Dataset.objects.create(name=name, ready=False, classes=list(intake.classes), keypoints=list(reading.skeleton.names),
                                     lines=[list(line) for line in reading.skeleton.edges], partners=list(reading.skeleton.partners),
                                     map_classes=list(reading.map_classes), format=intake.format, extra=reading.extra, source=source)  # fmt: skip
    begun(dataset)
    try:
        keep = partial(store.keep, settings.PICTURES, lasting=False)
        rows = intake.images(keep, MakesRows(intake.classes), progress, workers=os.cpu_count() or 1)
        while some := list(islice(rows, ROWS_AT_ONCE)):
            _put(dataset, some)
        findings = intake.findings()
        if not dataset.images.exists():
            said = findings[0].examples[0] if findings else "no images in it"
            raise DatasetError(f"{path.name}: {said}")
        os.sync()  # once for all pictures, in place of a wait for each
        dataset.findings = [finding.to_json() for finding in findings]
        dataset.digest = digest_of(dataset)
        dataset.ready = True
        dataset.save()
    except BaseException:
        discard(dataset)
        raise
    return dataset


def discard(dataset: Dataset) -> None:
    """Remove a dataset that is not ready; its pictures may belong to others too and stay."""
    with transaction.atomic():
        Image.objects.filter(dataset=dataset).delete()
        Dataset.objects.filter(pk=dataset.pk, ready=False).delete()


def _put(dataset: Dataset, rows: list[Row]) -> None:
    """New images, by the database's quick way for many rows."""
    columns = ", ".join(f'"{name}"' for name in ("dataset_id", *Row._fields))
    with connection.cursor() as cursor, cursor.copy(f'copy "{Image._meta.db_table}" ({columns}) from stdin') as copy:
        for row in rows:
            copy.write_row((dataset.pk, *row))


def set_objects(row: Image, objects: Objects, classes: tuple[str, ...]) -> None:
    """Put an image's objects into its row, with all that is told from them."""
    row.objects_json = objects_to_json(objects, classes)
    row.object_count, row.smallest_side, row.measures = measures_of(objects)


def content_of(row: Image, classes: tuple[str, ...]) -> str:
    """An image's content digest from its row."""
    levels = ""
    if row.label_map:
        files = store.StoredFiles("", settings.PICTURES, {row.label_map: row.label_map_sha256})
        found = decode_levels(files.read(row.label_map), row.label_map)
        levels = map_digest(check_map_size(found, row.label_map, Size(row.width, row.height)))
    return core.content_digest(entry_of(row, classes), classes, row.sha256, levels)


def digest_of(dataset: Dataset) -> str:
    """The snapshot's digest of a dataset as it stands in the database, edits included."""
    return whole_digest(dataset.classes, dataset.keypoints, dataset.images.filter(left_out=False).values_list("split", "content"))


@lru_cache(maxsize=4)
def load(dataset_id: int, digest: str) -> core.Dataset:
    """The core's dataset for an imported one; kept per process, since a snapshot never changes."""
    return _loaded(Dataset.objects.get(pk=dataset_id, digest=digest))


def entry_of(image: Image, classes: tuple[str, ...]) -> core.Entry:
    """The core's image for a row."""
    objects = objects_from_json(image.objects_json, classes, image.key)
    size = Size(image.width, image.height)
    return core.Entry(image.key, image.split, size, objects, image.extra, image.group, tuple(image.classes), image.label_map)


def _loaded(row: Dataset) -> core.Dataset:
    classes = tuple(row.classes)
    entries, digests, maps = [], {}, {}
    for image in row.images.filter(left_out=False):
        entries.append(entry_of(image, classes))
        digests[image.key] = image.sha256
        if image.label_map:
            maps[image.label_map] = image.label_map_sha256
    skeleton = core.Skeleton(tuple(row.keypoints), tuple((a, b) for a, b in row.lines), tuple(row.partners))
    files = store.StoredFiles(row.name, settings.PICTURES, {**digests, **maps})
    dataset = core.Dataset(row.name, classes, entries, files, skeleton, row.extra, digests)
    dataset.map_classes = tuple(row.map_classes)
    return dataset
