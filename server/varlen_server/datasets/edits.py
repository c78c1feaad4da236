"""Edits of imported datasets: made in batches, taken back in batches, files untouched."""

from __future__ import annotations

from collections.abc import Iterable
from typing import cast

from django.db import transaction
from django.db.models import Max
from rest_framework.exceptions import NotFound
from varlen.datasets import edits as core
from varlen.errors import DatasetError

from varlen_server.datasets.models import Dataset, Edit, Image
from varlen_server.datasets.services import content_of, digest_of, entry_of, load, set_objects


def apply_edits(dataset: Dataset, edits: Iterable[core.Edit], why: str) -> int:
    """Apply edits together; returns their batch. Raises `DatasetError` when there is nothing to do."""
    with transaction.atomic():
        Dataset.objects.select_for_update().get(pk=dataset.pk)
        batch = (dataset.edits.aggregate(last=Max("batch"))["last"] or 0) + 1
        known = set(dataset.images.values_list("key", flat=True))
        rows = [
            Edit(dataset=dataset, batch=batch, why=why, kind=edit.kind, image_key=edit.image, object_id=edit.object, value=edit.value)
            for edit in edits
            if edit.image in known
        ]
        if not rows:
            raise DatasetError("There is nothing to change.")
        Edit.objects.bulk_create(rows)
        _update_images(dataset, {row.image_key for row in rows})
    return batch


def mend_finding(dataset: Dataset, kind: str) -> None:
    """Apply a finding's remedy everywhere it was found. Raises `NotFound` for a kind that was not found or has no remedy."""
    finding = next((each for each in dataset.findings if each["kind"] == kind), None)
    if finding is None or not finding["edit"]:
        raise NotFound("There is no such finding with a remedy.")
    apply_edits(dataset, [core.Edit(finding["edit"], image, thing) for image, thing in finding["places"]], kind)


def undo_last_edits(dataset: Dataset) -> int:
    """Take the last batch back; returns how many edits that were."""
    with transaction.atomic():
        Dataset.objects.select_for_update().get(pk=dataset.pk)
        last = dataset.edits.aggregate(last=Max("batch"))["last"]
        rows = list(dataset.edits.filter(batch=last))
        dataset.edits.filter(batch=last).delete()
        _update_images(dataset, {row.image_key for row in rows})
    return len(rows)


def _update_images(dataset: Dataset, keys: set[str]) -> None:
    """Bring the images' rows and the snapshot's digest in line with the edits there are."""
    classes = tuple(dataset.classes)
    by_image: dict[str, list[core.Edit]] = {key: [] for key in keys}
    for row in dataset.edits.filter(image_key__in=keys):
        by_image[row.image_key].append(core.Edit(cast(core.EditKind, row.kind), row.image_key, row.object_id, row.value))
    for image in dataset.images.filter(key__in=keys):
        edits = by_image[image.key]
        first = image.unedited or {"split": image.split, "objects": image.objects_json}
        image.split, image.objects_json = first["split"], first["objects"]
        entry = core.apply_edits(entry_of(image, classes), edits)
        image.left_out = entry is None
        if entry is not None:
            image.split = entry.split
            set_objects(image, entry.objects, classes)
        image.content = content_of(image, classes)
        image.unedited = first if edits else None
        image.save(update_fields=["left_out", "split", "objects_json", "object_count", "smallest_side", "measures", "content", "unedited"])
    if not Image.objects.filter(dataset=dataset, left_out=False).exists():
        raise DatasetError("That would leave no image in the dataset.")
    dataset.digest = digest_of(dataset)
    dataset.save(update_fields=["digest"])
    load.cache_clear()
