"""What can go without anybody missing it: pictures no dataset shows, what was on its way and never came, copies that are made again."""

from __future__ import annotations

import re
import shutil
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from django.conf import settings
from django.contrib.sessions.models import Session
from django.utils import timezone

from varlen_server.backups import Busy, deleting
from varlen_server.datasets.imports import unneeded_uploads
from varlen_server.datasets.models import DatasetImport, Image
from varlen_server.editions.models import Edition
from varlen_server.evidence.models import Inquiry

#: What is younger may be on its way, seconds.
YOUNG = 3600.0


@dataclass(frozen=True)
class Waste:
    """Files or folders of one kind. why: what they are."""

    why: str
    paths: list[Path]
    bytes: int


def find_waste() -> list[Waste]:
    """What `clean` would remove, by kind. Raises `Busy` while a dataset is being imported: its pictures are in the store before they have rows."""
    if DatasetImport.objects.filter(state__in=[DatasetImport.State.READING, DatasetImport.State.WAITING]).exists():
        raise Busy("A dataset is being imported; clean up when it is there.")
    kinds = {
        "pictures that no dataset shows": _pictures(),
        "editions that were cancelled or deleted": _parts(),
        "uploads of imports that have ended": unneeded_uploads(time.time() - YOUNG),
        "runs of probes that are gone": _probes(),
        "small copies for the screen, made again when needed": (path for path in [Path(settings.TILES)] if path.exists()),
    }
    found = []
    for why, paths in kinds.items():
        listed = list(paths)
        found.append(Waste(why, listed, sum(map(_size, listed))))
    return found


def remove(waste: list[Waste]) -> None:
    """Remove it, and sessions that have expired. Raises `Busy` while a backup is being made."""
    with deleting(settings.STATE):
        for each in waste:
            for path in each.paths:
                if path.is_dir():
                    shutil.rmtree(path, ignore_errors=True)
                else:
                    path.unlink(missing_ok=True)
    Session.objects.filter(expire_date__lt=timezone.now()).delete()


def _pictures() -> Iterator[Path]:
    known: set[str] = set()
    for pair in Image.objects.values_list("sha256", "label_map_sha256").iterator(20_000):
        known.update(pair)
    before = time.time() - YOUNG
    for path in Path(settings.PICTURES).glob("??/*"):
        if path.name not in known and path.stat().st_mtime < before:
            yield path


def _parts() -> Iterator[Path]:
    alive = set(Edition.objects.exclude(state=Edition.State.CANCELLED).values_list("pk", flat=True))
    for path in Path(settings.EDITIONS).glob(".edition-*"):
        match = re.fullmatch(r"\.edition-(\d+)\.(varlen-part|removed)", path.name)
        if match and (match[2] == "removed" or int(match[1]) not in alive):
            yield path


def _probes() -> Iterator[Path]:
    needed = {each.folder.name for each in Inquiry.objects.exclude(state=Inquiry.State.DONE)}
    for path in (Path(settings.EDITIONS).parent / "probes").glob("probe-*"):
        if path.name not in needed:
            yield path


def _size(path: Path) -> int:
    try:
        return sum(each.stat().st_size for each in path.rglob("*") if each.is_file()) if path.is_dir() else path.stat().st_size
    except OSError:
        return 0
