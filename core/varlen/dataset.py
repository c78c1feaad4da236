"""Dataset: images with their labels, classes, splits and skeleton, wherever they came from."""

from __future__ import annotations

import hashlib
import json
import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from varlen import rle
from varlen.codec import decode, decode_levels
from varlen.draws import Peers
from varlen.entries import StoredEntries, entries_of
from varlen.errors import DatasetError
from varlen.geometry import Size
from varlen.sample import Objects


class Files(Protocol):
    """Where image files come from: a folder, a zip, or a store of a server's."""

    @property
    def name(self) -> str:
        """A short name for people."""

    def read(self, path: str) -> bytes:
        """The content of one file. Raises `DatasetError` naming it."""


NUL = b"\0"
SPLITS = ("train", "validation", "test")


def in_order(splits: Iterable[str]) -> list[str]:
    """Splits in their usual order, others after them by name; each once."""
    present = set(splits)
    return [split for split in SPLITS if split in present] + sorted(present - set(SPLITS))


@dataclass(frozen=True, slots=True)
class Skeleton:
    """Keypoint names and the lines drawn between them, as pairs of places.

    partners: for each keypoint the one it becomes in a mirror image; by itself: told from the names.
    """

    names: tuple[str, ...] = ()
    edges: tuple[tuple[int, int], ...] = ()
    partners: tuple[int, ...] = ()

    def swap(self) -> NDArray[np.int64]:
        """For each keypoint the one it becomes in a mirror image: left … and right … change places."""
        if self.partners:
            return np.array(self.partners, np.int64)
        places = {name: place for place, name in enumerate(self.names)}
        return np.array([places.get(_other_side(name), place) for place, name in enumerate(self.names)], np.int64)


def _other_side(name: str) -> str:
    sides = {"left": "right", "right": "left", "Left": "Right", "Right": "Left"}
    return re.sub(r"(?<![A-Za-z])(left|right|Left|Right)(?![a-z])", lambda match: sides[match.group(1)], name, count=1)


@dataclass(frozen=True, slots=True)
class Entry:
    """One image of a dataset: its key (path within the dataset), split, upright size and objects.

    group: the name of the group of images that belong together, such as the frames of a
    clip, "" for an image by itself; classes: image-level classes; label_map: the path of a
    picture file whose levels are the classes of the pixels, "" where there is none.
    """

    key: str
    split: str
    size: Size
    objects: Objects
    extra: dict[str, Any] = field(default_factory=dict)
    group: str = ""
    classes: tuple[str, ...] = ()
    label_map: str = ""

    def labels(self, classes: Sequence[str]) -> list[str]:
        """The image's own classes and those of its objects, by name. classes: the dataset's."""
        return [*self.classes, *(classes[number] for number in self.objects.classes.tolist())]


class Digests:
    """SHA-256 digests of images' files, found out one by one: 32 bytes each, side by side."""

    def __init__(self, entries: Mapping[str, Entry], known: Mapping[str, str]) -> None:
        self._places = entries if isinstance(entries, StoredEntries) else {key: place for place, key in enumerate(entries)}
        self._known = np.zeros(len(entries), np.bool_)
        self._raw = bytearray(32 * len(entries))
        for key, digest in known.items():
            if digest and key in entries:
                self[key] = digest

    def _place(self, key: str) -> int:
        return self._places.place(key) if isinstance(self._places, StoredEntries) else self._places[key]

    def get(self, key: str) -> str | None:
        """An image's digest in hex, None where it is not known yet."""
        place = self._place(key)
        return self._raw[32 * place : 32 * place + 32].hex() if self._known[place] else None

    def __setitem__(self, key: str, digest: str) -> None:
        place = self._place(key)
        self._raw[32 * place : 32 * place + 32] = bytes.fromhex(digest)
        self._known[place] = True


class Dataset:
    """Images, classes, splits and skeleton. Pictures are decoded when asked for, never kept."""

    def __init__(self, name: str, classes: Iterable[str], entries: Iterable[Entry], files: Files, skeleton: Skeleton | None = None,
                 extra: dict[str, Any] | None = None, digests: dict[str, str] | None = None) -> None:  # fmt: skip
        self.name = name
        self.classes = tuple(classes)
        self.entries: Mapping[str, Entry] = entries_of(entries)
        self.files = files
        self.skeleton = skeleton or Skeleton()
        self.extra = extra or {}
        self.map_classes: tuple[str, ...] = ()  # what the levels of label maps mean
        self.origin = ""  # where it was read from, when that is a place on this machine
        self.format = ""  # and in which form
        self._digests = Digests(self.entries, digests or {})
        self._peers: dict[tuple[str, bool], Peers] = {}

    @cached_property
    def swap(self) -> NDArray[np.int64]:
        """Mirror partners of the skeleton's keypoints."""
        return self.skeleton.swap()

    def size_of(self, key: str) -> Size:
        """Upright width and height of an image."""
        return self.entries[key].size

    def objects_of(self, key: str) -> Objects:
        """The labels of an image."""
        return self.entries[key].objects

    def peers_of(self, split: str, by_group: bool = False) -> Peers:
        """The ring of images, or of groups of images, that partners are drawn from."""
        if (split, by_group) not in self._peers:
            keys = self.by_split().get(split, [])
            groups: dict[str, list[str]] = {}
            for key in keys if by_group else ():
                groups.setdefault(self.draw_key(key, by_group), []).append(key)
            self._peers[split, by_group] = Peers(groups) if by_group else Peers.alone(keys)
        return self._peers[split, by_group]

    def draw_key(self, key: str, by_group: bool) -> str:
        """What an image's draws hang on: its key, or the name of its group."""
        return (by_group and self.entries[key].group) or key

    def label_map(self, key: str) -> NDArray[np.uint8] | None:
        """The class of every pixel, (H, W) uint8; None where the dataset has no label map for the image."""
        path = self.entries[key].label_map
        if not path:
            return None
        return fitting(decode_levels(self.files.read(path), path), path, self.entries[key].size)

    def splits(self) -> list[str]:
        """The splits that have images, in their usual order."""
        return in_order(self.by_split())

    def by_split(self) -> dict[str, Sequence[str]]:
        """The keys of every split's images, in order."""
        if isinstance(self.entries, StoredEntries):
            return self.entries.by_split()
        found: dict[str, list[str]] = {}
        for key, entry in self.entries.items():
            found.setdefault(entry.split, []).append(key)
        return {**found}

    def images_by_split(self) -> dict[str, int]:
        """How many images each split has; no image's labels are read for it."""
        by_split = self.by_split()
        return {split: len(by_split[split]) for split in in_order(by_split)}

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
        if self._digests.get(key) is None:
            self._digests[key] = hashlib.sha256(data).hexdigest()
        pixels = decode(data, key)
        size = self.entries[key].size
        if pixels.shape[:2] != (size.height, size.width):
            raise DatasetError(f"{key}: the picture is {pixels.shape[1]}×{pixels.shape[0]} px, its labels say {size.width}×{size.height} px")
        return pixels

    def source_digest(self, key: str) -> str:
        """SHA-256 of the image file, in hex."""
        found = self._digests.get(key)
        if found is None:
            found = self._digests[key] = hashlib.sha256(self.source(key)).hexdigest()
        return found

    def digest(self, progress: Callable[[], None] = lambda: None) -> str:
        """`sha256:…` over image contents, labels, classes and splits; file names and order don't count."""

        def images() -> Iterator[tuple[str, str]]:
            for key, entry in self.entries.items():
                yield entry.split, content_digest(entry, self.classes, self.source_digest(key), self._map_digest(entry))
                progress()

        return whole_digest(self.classes, self.skeleton.names, images())

    def _map_digest(self, entry: Entry) -> str:
        levels = self.label_map(entry.key)
        return "" if levels is None else map_digest(levels)


def fitting(levels: NDArray[np.uint8], path: str, size: Size) -> NDArray[np.uint8]:
    """A label map's levels, (H, W). Raises `DatasetError` naming its file when its picture has another size."""
    if levels.shape != (size.height, size.width):
        raise DatasetError(f"{path}: the label map is {levels.shape[1]}×{levels.shape[0]} px, its picture {size.width}×{size.height} px")
    return levels


def content_digest(entry: Entry, classes: tuple[str, ...], source_digest: str, map_digest: str) -> str:
    """SHA-256 in hex over an image's content, size and labels; neither its name nor its split counts.

    source_digest: of the image file; map_digest: `map_digest` of its label map, "" where there is none.
    """
    image = {"image": source_digest, "size": entry.size, "objects": sorted(_label_digests(entry.objects, classes))}
    if entry.classes or entry.label_map:
        image |= {"classes": sorted(entry.classes), "label_map": map_digest}
    return hashlib.sha256(json.dumps(image, sort_keys=True, separators=(",", ":")).encode()).hexdigest()


def labels_digest(entry: Entry, classes: tuple[str, ...]) -> str:
    """SHA-256 in hex over an image's labels alone; their order does not count."""
    return hashlib.sha256(json.dumps([sorted(_label_digests(entry.objects, classes)), sorted(entry.classes)]).encode()).hexdigest()


def map_digest(levels: NDArray[np.uint8]) -> str:
    """SHA-256 in hex over a label map's levels."""
    return hashlib.sha256(levels.tobytes()).hexdigest()


def whole_digest(classes: Iterable[str], keypoints: Iterable[str], images: Iterable[tuple[str, str]]) -> str:
    """A dataset's digest from its classes, keypoint names, and each image's split and `content_digest`."""
    head = {"classes": sorted(classes), "keypoints": list(keypoints)}
    whole = hashlib.sha256(json.dumps(head, sort_keys=True).encode())
    # 32 bytes an image until they are sorted: there may be very many.
    by_split: dict[str, bytearray] = {}
    for split, digest in images:
        by_split.setdefault(split, bytearray()).extend(bytes.fromhex(digest))
    for split, raw in sorted(by_split.items()):
        for digest in np.sort(np.frombuffer(raw, "S32")):
            whole.update(f"\n{split} {digest.ljust(32, NUL).hex()}".encode())
    return "sha256:" + whole.hexdigest()


def _label_digests(objects: Objects, classes: tuple[str, ...]) -> Iterator[str]:
    """A digest of each object; coordinates count to 1/1000 px."""

    def rounded(values: NDArray[np.float64]) -> NDArray[np.int64]:
        return np.rint(values * 1000.0).astype("<i8")

    boxes, keypoints, points = rounded(objects.boxes), rounded(objects.keypoints), rounded(objects.outlines.points)
    starts = objects.outlines.starts.tolist()
    rings: list[list[bytes]] = [[] for _ in objects.ids]
    for ring, owner in enumerate(objects.outlines.owners.tolist()):
        rings[owner].append(points[starts[ring] : starts[ring + 1]].tobytes())
    for place, number in enumerate(objects.classes.tolist()):
        parts = [boxes[place].tobytes(), keypoints[place].tobytes(), *rings[place], b""]
        mask = objects.masks[place]
        shape = b"" if mask is None else json.dumps([mask.left, mask.top, *mask.pixels.shape, rle.encode(mask.pixels)]).encode()
        crowd = b"crowd" if objects.crowd[place] else b"single"
        yield hashlib.sha256(b"".join((classes[number].encode(), crowd, b";".join(parts), shape))).hexdigest()
