"""Changes to a dataset that can be taken back, and deleting it."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable
from typing import Any, cast

from django.conf import settings
from django.db import transaction
from django.db.models import Max, Q
from rest_framework.exceptions import NotFound
from varlen.datasets import edits as core
from varlen.errors import DatasetError

from varlen_server import content_store
from varlen_server.backups import deleting
from varlen_server.datasets.models import Dataset, DatasetImport, Edit, Image
from varlen_server.datasets.services import content_of, digest_of, entry_of, load, set_objects
from varlen_server.errors import Conflict


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


#: Digests asked for at once.
AT_ONCE = 5000


def uses_of(dataset: Dataset) -> dict[str, Any]:
    """What needs a dataset, and the pictures and bytes that would be free without it."""
    own = _own_pictures(dataset)
    return {**_needs(dataset), "pictures": len(own), "bytes": sum(_size(each) for each in own)}


def _needs(dataset: Dataset) -> dict[str, Any]:
    """Names of editions made from a dataset, and of jobs that are at it now; how many matches and probes are about it."""
    from varlen_server.editions.models import Edition
    from varlen_server.evidence.models import Inquiry

    editions = Edition.objects.filter(dataset=dataset)
    busy = [f"edition {each.name}" for each in editions.filter(state__in=[Edition.State.WAITING, Edition.State.WRITING])]
    busy += [f"edition {each.name}, being checked" for each in editions if each.check_state.get("state") == "checking"]
    about = Inquiry.objects.filter(Q(dataset=dataset) | Q(field=dataset))
    busy += [f"{each.kind} {each.pk}" for each in about.filter(state__in=[Inquiry.State.WAITING, Inquiry.State.RUNNING])]
    busy += [f"import {each.pk}" for each in DatasetImport.objects.filter(dataset=dataset, state=DatasetImport.State.READING)]
    kept = [each.name for each in editions.filter(state__in=[Edition.State.DONE, Edition.State.STOPPED])]
    return {"editions": kept, "jobs": busy, "inquiries": about.count()}


def delete_dataset(dataset: Dataset, sure: bool) -> dict[str, int]:
    """Delete a dataset with its pictures; returns how many pictures and bytes went.

    Raises `Conflict` while a job is at it, and where editions were made from it unless `sure`: these
    stay, complete, but can no longer be recreated from here, nor show the pictures they were made from.
    """
    from varlen_server.editions.models import Edition

    with deleting(settings.STATE):
        with transaction.atomic():
            row = Dataset.objects.select_for_update().get(pk=dataset.pk)
            uses = _needs(row)
            if uses["jobs"]:
                raise Conflict(f"“{row.name}” is in use: {_listed(uses['jobs'])}. Cancel that first, or wait for it.")
            if uses["editions"] and not sure:
                count = len(uses["editions"])
                raise Conflict(
                    f"{count} edition{'s' * (count > 1)} made from “{row.name}” could no longer be recreated: {_listed(uses['editions'])}."
                )
            own = _own_pictures(row)
            Edition.objects.filter(dataset=row).update(dataset=None)
            Image.objects.filter(dataset=row).delete()
            row.delete()
        freed = sum(_size(digest) for digest in own)
        for digest in own:
            _remove(digest)
    return {"pictures": len(own), "bytes": freed}


def _listed(names: list[str], most: int = 6) -> str:
    more = len(names) - most
    return ", ".join(names[:most]) + (f" and {more} more" if more > 0 else "")


def _own_pictures(dataset: Dataset) -> list[str]:
    """SHA-256 of pictures and label maps that no other dataset has."""
    digests = {each for pair in dataset.images.values_list("sha256", "label_map_sha256") for each in pair if each}
    others = Image.objects.exclude(dataset=dataset)
    listed = sorted(digests)
    for start in range(0, len(listed), AT_ONCE):
        some = listed[start : start + AT_ONCE]
        digests -= set(others.filter(sha256__in=some).values_list("sha256", flat=True))
        digests -= set(others.filter(label_map_sha256__in=some).values_list("label_map_sha256", flat=True))
    return sorted(digests)


def _size(digest: str) -> int:
    try:
        return content_store.path_of(settings.PICTURES, digest).stat().st_size
    except OSError:
        return 0


def _remove(digest: str) -> None:
    """A picture, and its small copies for the screen."""
    content_store.path_of(settings.PICTURES, digest).unlink(missing_ok=True)
    with contextlib.suppress(OSError):
        for path in (settings.TILES / "sources" / digest[:2]).glob(f"{digest}-*.jpg"):
            path.unlink(missing_ok=True)
