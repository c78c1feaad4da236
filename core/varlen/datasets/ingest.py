"""Bringing in a few images at a time: each file is read once, hashed, and its header looked at.

All that is needed can be sent to another process, and what comes back is small: images as
their keeper wants them, and what was noted about them.
"""

from __future__ import annotations

import hashlib
import io
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Generic, TypeVar

from PIL import Image

from varlen.datasets.dataset import fitting
from varlen.datasets.digests import content_digest, map_digest
from varlen.datasets.entry import Entry
from varlen.datasets.exif_orientation import turned, turned_raster
from varlen.datasets.findings import size_disagrees
from varlen.datasets.findings.label_checks import LabelLook
from varlen.datasets.formats.base import Listed, ReadsLabels
from varlen.datasets.image_files import Facts, decode, decode_levels, ends_well, facts_of
from varlen.datasets.import_options import Choices
from varlen.datasets.sources import SourceFiles
from varlen.errors import DatasetError, Trouble

T = TypeVar("T")

Keep = Callable[[str, bytes], None]
"""Stores a file under its SHA-256, in hex."""


@dataclass(frozen=True, slots=True)
class Brought:
    """One image that was brought in. digest: its `content_digest`; map_sha256: of its label map's file, "" for none."""

    entry: Entry
    sha256: str
    map_sha256: str
    digest: str
    facts: Facts


@dataclass(slots=True)
class Batch(Generic[T]):
    """A few images brought in. count: how many were listed; taken: those that can be used, as their keeper wants them."""

    count: int
    look: LabelLook
    trouble: Trouble = field(default_factory=lambda: Trouble(strict=False))
    taken: list[T] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Bringer(Generic[T]):
    """How images are brought in.

    found: the classes of the files, `classes` as they were chosen; keep: stores files; taken: what is wanted of each image.
    """

    files: SourceFiles
    read: ReadsLabels
    found: tuple[str, ...]
    classes: tuple[str, ...]
    keypoints: tuple[str, ...]
    choices: Choices
    keep: Keep
    taken: Callable[[Brought], T]

    def bring(self, images: Sequence[tuple[Listed, str | None]]) -> Batch[T]:
        """Images with the split each was given, None for the one it has."""
        batch: Batch[T] = Batch(len(images), LabelLook(self.classes, self.keypoints))
        for image, split in images:
            entry = self.choices.with_classes(self.read(image, batch.trouble), self.found)
            entry = replace(entry, split=split or entry.split, group=self.choices.group_of(entry))
            brought = self._one(entry, batch.look)
            if brought is not None:
                batch.taken.append(self.taken(brought))
        return batch

    def _one(self, entry: Entry, look: LabelLook) -> Brought | None:
        """An image with its file; None, and a note of why, where it can't be used."""
        key, notes = entry.key, look.notes
        try:
            data = self.files.read(key)
            facts = facts_of(data, key)
        except DatasetError as error:
            notes.add("missing-file", str(error), key)
            return None
        if facts is None or not ends_well(data, facts):
            try:
                decode(data, key)
            except DatasetError as error:
                look.labels(entry)
                notes.add("damaged-file", str(error), key)
                return None
        assert facts is not None  # a picture that decodes has a header
        turn = facts.orientation if self.choices.exif == "stored" else 1
        entry = turned(entry, turn)
        look.labels(entry)
        look.header(key, facts)
        if entry.size != facts.upright:
            notes.add("size-disagrees", size_disagrees(key, tuple(facts.upright), tuple(entry.size)), key)
            return None
        sha256 = hashlib.sha256(data).hexdigest()
        map_sha256, levels_digest = self._label_map(entry, turn) if entry.label_map else ("", "")
        look.image(key, entry.split, sha256)
        self.keep(sha256, data)
        return Brought(entry, sha256, map_sha256, content_digest(entry, self.classes, sha256, levels_digest), facts)

    def _label_map(self, entry: Entry, turn: int) -> tuple[str, str]:
        data = self.files.read(entry.label_map)
        levels = fitting(turned_raster(decode_levels(data, entry.label_map), turn), entry.label_map, entry.size)
        if turn != 1:
            buffer = io.BytesIO()
            Image.fromarray(levels).save(buffer, "PNG")
            data = buffer.getvalue()
        digest = hashlib.sha256(data).hexdigest()
        self.keep(digest, data)
        return digest, map_digest(levels)
