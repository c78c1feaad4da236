"""Digests of image files, labels and whole datasets."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.entry import Entry, StoredEntries
from varlen.model.objects import Objects
from varlen.shapes import rle

NUL = b"\0"


class Digests:
    """SHA-256 digests of images' files, found out one by one: 32 bytes each, side by side."""

    def __init__(self, entries: Mapping[str, Entry], known: Mapping[str, str]) -> None:
        self._places = entries if isinstance(entries, StoredEntries) else {key: place for place, key in enumerate(entries)}
        count = entries.places if isinstance(entries, StoredEntries) else len(entries)
        self._known = np.zeros(count, np.bool_)
        self._raw = bytearray(32 * count)
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


def whole_digest(
    classes: Iterable[str], keypoints: Iterable[str], images: Iterable[tuple[str, str]], reading: Mapping[str, Any] | None = None
) -> str:
    """A dataset's digest from its classes, keypoint names, and each image's split and `content_digest`.

    reading: what of the way it was read changes pixels or labels, by name; nothing for the usual way.
    """
    head = {"classes": sorted(classes), "keypoints": list(keypoints), **(reading or {})}
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
    starts, turned = objects.outlines.starts.tolist(), bool(len(objects.oriented.owners))
    rings: list[list[bytes]] = [[] for _ in objects.ids]
    for ring, owner in enumerate(objects.outlines.owners.tolist()):
        rings[owner].append(points[starts[ring] : starts[ring + 1]].tobytes())
    for place, number in enumerate(objects.classes.tolist()):
        parts = [boxes[place].tobytes(), keypoints[place].tobytes(), *rings[place], b""]
        mask = objects.masks[place]
        shape = b"" if mask is None else json.dumps([mask.left, mask.top, *mask.pixels.shape, rle.encode(mask.pixels)]).encode()
        crowd = b"crowd" if objects.crowd[place] else b"single"
        corners = objects.oriented.of_object(place) if turned else None
        if corners is not None:
            shape += b"oriented" + rounded(corners).tobytes()
        yield hashlib.sha256(b"".join((classes[number].encode(), crowd, b";".join(parts), shape))).hexdigest()
