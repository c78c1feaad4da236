"""Deleting a dataset: what it would break is said first, and pictures that nothing else shows go with it."""

from __future__ import annotations

import contextlib
from typing import Any

from django.conf import settings
from django.db import transaction
from django.db.models import Q

from varlen_server import content_store
from varlen_server.datasets.models import Dataset, DatasetImport, Image
from varlen_server.errors import Conflict
from varlen_server.keeping import deleting

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
