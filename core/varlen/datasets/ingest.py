"""Ingesting a few images at a time: each file is read once, hashed, and its header checked.

Everything needed can be sent to another process, and what comes back is small: images in the form
the caller keeps them in, and the problems found.
"""

from __future__ import annotations

import hashlib
import io
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Generic, TypeVar

from PIL import Image

from varlen.datasets.dataset import check_map_size
from varlen.datasets.digests import content_digest, map_digest
from varlen.datasets.entry import Entry
from varlen.datasets.findings import size_disagrees
from varlen.datasets.findings.checks import LabelChecks
from varlen.datasets.findings.kinds import kind_of
from varlen.datasets.formats.base import ListedImage, ReadsLabels, read_image
from varlen.datasets.image_files import ImageHeader, decode, decode_levels, has_end_marker, read_header, upright_entry, upright_raster
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.level_rules import MapLevels
from varlen.datasets.skeleton import Skeleton
from varlen.datasets.sources import Files
from varlen.errors import DatasetError, ReadProblems

T = TypeVar("T")

StoreFile = Callable[[str, bytes], None]
"""Stores a file under its SHA-256, in hex."""


@dataclass(frozen=True, slots=True)
class IngestedImage:
    """One ingested image. digest: its `content_digest`; map_sha256: of its label map's file, "" for none."""

    entry: Entry
    sha256: str
    map_sha256: str
    digest: str
    facts: ImageHeader


@dataclass(slots=True)
class IngestedBatch(Generic[T]):
    """A few ingested images. count: how many were listed; taken: those that can be used, in the form the caller keeps them in."""

    count: int
    checks: LabelChecks
    problems: ReadProblems = field(default_factory=lambda: ReadProblems(strict=False))
    taken: list[T] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Ingester(Generic[T]):
    """How images are ingested.

    found: the classes of the files, `classes` as they were chosen; store_file: stores a file by its digest; taken:
    converts each image to the form the caller keeps.
    """

    files: Files
    read: ReadsLabels
    found: tuple[str, ...]
    classes: tuple[str, ...]
    skeleton: Skeleton
    options: ImportOptions
    store_file: StoreFile
    taken: Callable[[IngestedImage], T]
    map_levels: MapLevels = field(default_factory=MapLevels)
    map_classes: tuple[str, ...] = ()

    def ingest(self, images: Sequence[tuple[ListedImage, str | None]]) -> IngestedBatch[T]:
        """Images with the split each was given, None for the one it has."""
        batch: IngestedBatch[T] = IngestedBatch(len(images), LabelChecks(self.classes, self.skeleton))
        for image, split in images:
            found = read_image(self.read, image, batch.problems)
            entry = found and self.options.with_classes(found, self.found)
            if entry is None:
                continue
            entry = replace(entry, split=split or entry.split, group=self.options.group_of(entry))
            ingested = self._one(entry, batch.checks)
            if ingested is not None:
                batch.taken.append(self.taken(ingested))
        return batch

    def _one(self, entry: Entry, checks: LabelChecks) -> IngestedImage | None:
        """An image with its file; None, and a note of why, where it can't be used."""
        key, notes = entry.key, checks.notes
        try:
            data = self.files.read(key)
            facts = read_header(data, key)
        except DatasetError as error:
            notes.add("missing-file", str(error), key)
            return None
        if facts is None or facts.unclear or not has_end_marker(data, facts):
            try:
                decode(data, key)
            except DatasetError as error:
                checks.labels(entry)
                notes.add(kind_of(error), str(error), key)
                return None
        assert facts is not None  # a picture that decodes has a header
        turn = facts.orientation if self.options.exif == "stored" else 1
        entry = upright_entry(entry, turn)
        checks.labels(entry)
        checks.header(key, facts)
        if entry.size != facts.upright:
            notes.add("size-disagrees", size_disagrees(key, tuple(facts.upright), tuple(entry.size)), key)
            return None
        sha256 = hashlib.sha256(data).hexdigest()
        try:
            map_sha256, levels_digest = self._label_map(entry, turn, checks) if entry.label_map else ("", "")
        except DatasetError as error:
            notes.add("damaged-map", str(error), key)
            return None
        checks.image(key, entry.split, sha256)
        self.store_file(sha256, data)
        return IngestedImage(entry, sha256, map_sha256, content_digest(entry, self.classes, sha256, levels_digest), facts)

    def _label_map(self, entry: Entry, turn: int, checks: LabelChecks) -> tuple[str, str]:
        data = self.files.read(entry.label_map)
        checks.label_map(entry.key, self.files, entry.label_map, self.map_levels, len(self.map_classes))
        levels = check_map_size(upright_raster(decode_levels(data, entry.label_map), turn), entry.label_map, entry.size)
        if turn != 1:
            buffer = io.BytesIO()
            Image.fromarray(levels).save(buffer, "PNG")
            data = buffer.getvalue()
        digest = hashlib.sha256(data).hexdigest()
        self.store_file(digest, data)
        return digest, map_digest(levels)
