"""Imported datasets: put into the database, loaded for rendering, shown."""

from __future__ import annotations

import os
from collections.abc import Callable
from functools import lru_cache, partial
from itertools import islice
from pathlib import Path
from typing import Any, cast

from django.conf import settings
from django.db import transaction
from django.db.models import Count, Q, Sum
from varlen.datasets import dataset as core
from varlen.datasets.dataset import check_map_size, reading_facts
from varlen.datasets.digests import content_digest, map_digest, whole_digest
from varlen.datasets.entry import Entry
from varlen.datasets.image_files import decode_levels
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.importer import Importer
from varlen.datasets.skeleton import Skeleton
from varlen.datasets.splits import in_order
from varlen.datasets.summary import evenly_spaced
from varlen.errors import DatasetError
from varlen.model.geometry import Size
from varlen.model.objects import Objects
from varlen.shapes.objects_json import objects_from_json, objects_to_json

from varlen_server import content_store
from varlen_server.datasets.columns import MakesRows, measures_of
from varlen_server.datasets.models import Dataset, Image

#: Rows that go to the database in one statement.
ROWS_AT_ONCE = 500

Progress = Callable[[int], None]


def import_dataset(path: Path, name: str, options: ImportOptions | None = None, source: str = "", progress: Progress = lambda done: None,
                   begun: Callable[[Dataset], None] = lambda dataset: None, made_by: str = "") -> Dataset:  # fmt: skip
    """Read a dataset from a folder or zip into the store and the database, all or nothing.

    What can't be read is left out and listed among the findings, so that one bad file does not
    keep the others away; a dataset of which nothing can be read is refused. Whatever `progress`
    raises ends it, and nothing stays. `source`: where the files can be found again; `begun` is told of the row that is not ready yet.
    """
    importer = Importer(path, options or ImportOptions())
    reading = importer.reading
    dataset = Dataset.objects.create(
        name=name,
        ready=False,
        classes=list(importer.classes),
        keypoints=list(reading.skeleton.names),
        lines=[list(line) for line in reading.skeleton.edges],
        partners=list(reading.skeleton.partners),
        map_classes=list(reading.map_classes),
        format=importer.format,
        extra=reading.extra,
        source=source,
        mirror_classes=importer.mirror_classes,
        read_as=importer.options.to_json(),
        splits_drawn=importer.drawn,
        made_by=made_by,
        changed_by=made_by,
    )
    begun(dataset)
    known = known_splits(name, source)
    try:
        store_file = partial(content_store.keep, settings.PICTURES, lasting=False)
        rows = importer.images(store_file, MakesRows(importer.classes), progress, workers=os.cpu_count() or 1, known_splits=known)
        while some := list(islice(rows, ROWS_AT_ONCE)):
            Image.objects.bulk_create([Image(dataset=dataset, **row._asdict()) for row in some])
        findings = importer.findings()
        if not dataset.images.exists():
            said = findings[0].examples[0] if findings else "no images in it"
            raise DatasetError(f"{path.name}: {said}")
        os.sync()  # once for all pictures, in place of a wait for each
        dataset.findings = [finding.to_json() for finding in findings]
        dataset.digest = digest_of(dataset)
        dataset.ready = True
        dataset.save()
    except BaseException:
        discard_import(dataset)
        raise
    return dataset


def known_splits(name: str, source: str) -> dict[str, str]:
    """The split of every picture of the dataset that was brought in last under this name or from this place, by SHA-256."""
    same = Dataset.objects.filter(ready=True).filter(Q(name=name) | Q(source=source) if source else Q(name=name)).order_by("-pk").first()
    return dict(same.images.filter(left_out=False).values_list("sha256", "split")) if same is not None else {}


def discard_import(dataset: Dataset) -> None:
    """Remove a dataset that is not ready; its pictures may belong to others too and stay."""
    with transaction.atomic():
        Image.objects.filter(dataset=dataset).delete()
        Dataset.objects.filter(pk=dataset.pk, ready=False).delete()


def set_objects(row: Image, objects: Objects, classes: tuple[str, ...]) -> None:
    """Put an image's objects into its row, with all that is derived from them."""
    row.objects_json = objects_to_json(objects, classes)  # type: ignore[assignment]  # a text column that holds JSON
    row.object_count, row.smallest_side, row.measures = measures_of(objects)


def content_of(row: Image, classes: tuple[str, ...]) -> str:
    """An image's content digest from its row."""
    levels = ""
    if row.label_map:
        files = content_store.StoredFiles("", settings.PICTURES, {row.label_map: row.label_map_sha256})
        found = decode_levels(files.read(row.label_map), row.label_map)
        levels = map_digest(check_map_size(found, row.label_map, Size(row.width, row.height)))
    return content_digest(entry_of(row, classes), classes, row.sha256, levels)


def digest_of(dataset: Dataset) -> str:
    """The snapshot's digest of a dataset as it stands in the database, edits included."""
    facts = reading_facts(skeleton_of(dataset), dataset.mirror_classes, "mirror_pairs" in dataset.read_as)
    return whole_digest(dataset.classes, dataset.keypoints, dataset.images.filter(left_out=False).values_list("split", "content"), facts)


def skeleton_of(dataset: Dataset) -> Skeleton:
    """The core's skeleton of a dataset."""
    return Skeleton(tuple(dataset.keypoints), tuple((a, b) for a, b in dataset.lines), tuple(dataset.partners))


@lru_cache(maxsize=4)
def load(dataset_id: int, digest: str) -> core.Dataset:
    """The core's dataset for an imported one; kept per process, since a snapshot never changes."""
    return _loaded(Dataset.objects.get(pk=dataset_id, digest=digest))


def entry_of(image: Image, classes: tuple[str, ...]) -> Entry:
    """The core's image for a row."""
    found = objects_from_json(cast(list[dict[str, Any]], image.objects_json), classes, image.key)
    size = Size(image.width, image.height)
    return Entry(image.key, image.split, size, found, image.extra, image.group, tuple(image.classes), image.label_map)


def _loaded(row: Dataset) -> core.Dataset:
    classes = tuple(row.classes)
    entries, digests, maps = [], {}, {}
    for image in row.images.filter(left_out=False):
        entries.append(entry_of(image, classes))
        digests[image.key] = image.sha256
        if image.label_map:
            maps[image.label_map] = image.label_map_sha256
    files = content_store.StoredFiles(row.name, settings.PICTURES, {**digests, **maps})
    dataset = core.Dataset(row.name, classes, entries, files, skeleton_of(row), row.extra, digests)
    dataset.map_classes, dataset.mirror_classes, dataset.read_as = tuple(row.map_classes), row.mirror_classes, row.read_as
    dataset.format, dataset.splits_drawn = row.format, row.splits_drawn
    return dataset


def split_counts(dataset: Dataset) -> list[dict[str, Any]]:
    """Images and objects of every split that has some, in the splits' usual order."""
    rows = dataset.images.filter(left_out=False).values("split").annotate(images=Count("id"), labels=Sum("object_count"))
    found = {row["split"]: {"split": row["split"], "images": row["images"], "objects": row["labels"]} for row in rows}
    return [found[split] for split in in_order(found)]


def images_for_sheet(dataset: Dataset, pick: str, split: str, count: int, turn: int, pinned: list[int]) -> list[Image]:
    """A few images for the contact sheet.

    pick: spread, smallest, most, random (another choice for every `turn`) or pinned (those whose numbers are
    in `pinned`). Where the split has no image, all of them count.
    """
    shown = dataset.images.filter(left_out=False)
    images = shown.filter(split=split)
    if not images.exists():
        images = shown
    match pick:
        case "pinned":
            return list(shown.filter(pk__in=pinned))
        case "smallest":
            return list(images.filter(object_count__gt=0).order_by("smallest_side", "key")[:count])
        case "most":
            return list(images.order_by("-object_count", "key")[:count])
        case "random":
            drawn = sorted(images.values_list("sha256", "pk"), key=lambda pair: _shuffled(pair[0], turn))[:count]
            return list(images.filter(pk__in=[key for _, key in drawn]))
        case _:
            return list(images.filter(pk__in=evenly_spaced(list(images.values_list("pk", flat=True)), count)))


def _shuffled(digest: str, turn: int) -> int:
    """A number that orders images anew for every turn."""
    return (int(digest[:15], 16) * (2 * turn + 1) * 0x9E3779B97F4A7C15) % 2**64


def findings_of(dataset: Dataset) -> dict[str, Any]:
    """What looked wrong when the dataset was imported, which of it is mended, and the edits since."""
    mended = set(dataset.edits.values_list("why", flat=True))
    batches: dict[int, dict[str, Any]] = {}
    for edit in dataset.edits.all():
        batch = batches.setdefault(edit.batch, {"why": edit.why, "kind": edit.kind, "count": 0, "example": edit.image_key})
        batch["count"] += 1
    findings = [{**finding, "mended": finding["kind"] in mended} for finding in dataset.findings]
    return {"findings": findings, "edits": list(batches.values()), "digest": dataset.digest}


def findings_in(image: Image) -> list[dict[str, str]]:
    """What was found in one image: the kind, and the object where it is one's."""
    places = ((each["kind"], place, thing) for each in image.dataset.findings for place, thing in each["places"])
    return [{"kind": kind, "object": thing} for kind, place, thing in places if place == image.key]
