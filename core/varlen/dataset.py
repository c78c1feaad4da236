"""Dataset: images with their labels, classes, splits and skeleton, wherever they came from."""

from __future__ import annotations

import hashlib
import json
import re
from collections import Counter
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from varlen import rle
from varlen.codec import decode
from varlen.draws import Peers
from varlen.errors import DatasetError
from varlen.geometry import Size
from varlen.labels.shapes import rings_of
from varlen.sample import Objects


class Files(Protocol):
    """Where image files come from: a folder, a zip, or a store of a server's."""

    @property
    def name(self) -> str:
        """A short name for people."""

    def read(self, path: str) -> bytes:
        """The content of one file. Raises `DatasetError` naming it."""


SPLITS = ("train", "validation", "test")


@dataclass(frozen=True, slots=True)
class Skeleton:
    """Keypoint names and the lines drawn between them, as pairs of places."""

    names: tuple[str, ...] = ()
    edges: tuple[tuple[int, int], ...] = ()

    def swap(self) -> NDArray[np.int64]:
        """For each keypoint the one it becomes in a mirror image: left … and right … change places."""
        places = {name: place for place, name in enumerate(self.names)}
        return np.array([places.get(_other_side(name), place) for place, name in enumerate(self.names)], np.int64)


def _other_side(name: str) -> str:
    sides = {"left": "right", "right": "left", "Left": "Right", "Right": "Left"}
    return re.sub(r"(?<![A-Za-z])(left|right|Left|Right)(?![a-z])", lambda match: sides[match.group(1)], name, count=1)


@dataclass(frozen=True, slots=True)
class Entry:
    """One image of a dataset: its key (path within the dataset), split, upright size and objects."""

    key: str
    split: str
    size: Size
    objects: Objects
    extra: dict[str, Any] = field(default_factory=dict)


class Dataset:
    """Images, classes, splits and skeleton. Pictures are decoded when asked for, never kept."""

    def __init__(self, name: str, classes: Iterable[str], entries: Iterable[Entry], files: Files, skeleton: Skeleton | None = None,
                 extra: dict[str, Any] | None = None, digests: dict[str, str] | None = None) -> None:  # fmt: skip
        self.name = name
        self.classes = tuple(classes)
        self.entries = {entry.key: entry for entry in sorted(entries, key=lambda entry: entry.key)}
        self.files = files
        self.skeleton = skeleton or Skeleton()
        self.extra = extra or {}
        self._digests = dict(digests or {})
        self._peers: dict[str, Peers] = {}

    @cached_property
    def swap(self) -> NDArray[np.int64]:
        """Mirror partners of the skeleton's keypoints."""
        return self.skeleton.swap()

    def size_of(self, key: str) -> Size:
        """Upright width and height of an image."""
        return self.entries[key].size

    def peers_of(self, split: str) -> Peers:
        """The ring of images that partners are drawn from."""
        if split not in self._peers:
            self._peers[split] = Peers(key for key, entry in self.entries.items() if entry.split == split)
        return self._peers[split]

    def splits(self) -> list[str]:
        """The splits that have images, in their usual order."""
        present = {entry.split for entry in self.entries.values()}
        return [split for split in SPLITS if split in present] + sorted(present - set(SPLITS))

    def counts(self) -> dict[str, dict[str, int]]:
        """Images and objects per split."""
        images, objects = Counter[str](), Counter[str]()
        for entry in self.entries.values():
            images[entry.split] += 1
            objects[entry.split] += len(entry.objects)
        return {split: {"images": images[split], "objects": objects[split]} for split in self.splits()}

    def source(self, key: str) -> bytes:
        """The image file's bytes."""
        return self.files.read(key)

    def pixels(self, key: str) -> NDArray[np.uint8]:
        """The decoded picture, (H, W, 3) uint8. Raises `DatasetError` naming the file."""
        data = self.source(key)
        self._digests.setdefault(key, hashlib.sha256(data).hexdigest())
        pixels = decode(data, key)
        size = self.entries[key].size
        if pixels.shape[:2] != (size.height, size.width):
            raise DatasetError(f"{key}: the picture is {pixels.shape[1]}×{pixels.shape[0]} px, its labels say {size.width}×{size.height} px")
        return pixels

    def source_digest(self, key: str) -> str:
        """SHA-256 of the image file, in hex."""
        if key not in self._digests:
            self._digests[key] = hashlib.sha256(self.source(key)).hexdigest()
        return self._digests[key]

    def digest(self, progress: Callable[[], None] = lambda: None) -> str:
        """`sha256:…` over image contents, labels, classes and splits; file names and order don't count."""
        lines = []
        for key, entry in self.entries.items():
            image = {"image": self.source_digest(key), "split": entry.split, "size": entry.size, "objects": self._labels(entry.objects)}
            lines.append(json.dumps(image, sort_keys=True, separators=(",", ":")))
            progress()
        head = {"classes": sorted(self.classes), "keypoints": self.skeleton.names}
        whole = hashlib.sha256(json.dumps(head, sort_keys=True).encode())
        for line in sorted(lines):
            whole.update(b"\n" + line.encode())
        return "sha256:" + whole.hexdigest()

    def _labels(self, objects: Objects) -> list[str]:
        """A digest of each object, sorted; coordinates count to 1/1000 px."""
        return sorted(self._label(objects, place) for place in range(len(objects)))

    def _label(self, objects: Objects, place: int) -> str:
        digest = hashlib.sha256(self.classes[objects.classes[place]].encode())
        digest.update(b"crowd" if objects.crowd[place] else b"single")
        rings = rings_of(objects.polygons[place] or ())
        for values in (objects.boxes[place], objects.keypoints[place], *rings):
            digest.update(np.rint(values * 1000.0).astype("<i8").tobytes() + b";")
        mask = objects.masks[place]
        if mask is not None:
            digest.update(json.dumps([mask.left, mask.top, *mask.pixels.shape, rle.encode(mask.pixels)]).encode())
        return digest.hexdigest()
