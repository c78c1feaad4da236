"""What only decoding shows: damaged pictures, those that look alike, and the levels of their pixels."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.findings.kinds import Finding, FindingCounts, by_severity, kind_of
from varlen.datasets.image_files import decode
from varlen.errors import DatasetError
from varlen.kernels.resample import shrunk

#: Pictures whose fingerprints differ in no more bits than this look alike.
ALIKE = 3


@dataclass(frozen=True, slots=True)
class ScannedImage:
    """One decoded picture. error: why it could not be decoded, "" when it could, and `kind` of finding then; levels: (3, 256) counts per channel."""

    size: tuple[int, int] = (0, 0)
    fingerprint: int = 0
    levels: NDArray[np.int64] = field(default_factory=lambda: np.zeros((3, 256), np.int64))
    error: str = ""
    kind: str = "damaged-file"


def scan_image(data: bytes, key: str) -> ScannedImage:
    """Decode a picture once for all that is asked of it."""
    try:
        pixels = decode(data, key)
    except DatasetError as error:
        return ScannedImage(error=str(error), kind=kind_of(error))
    levels = np.stack([np.bincount(pixels[:, :, channel].ravel(), minlength=256) for channel in range(3)])
    return ScannedImage((pixels.shape[1], pixels.shape[0]), likeness_hash(pixels), levels)


def scan_file(job: tuple[str, str]) -> ScannedImage:
    """Examine a file: its path, and the name to be used of it. For other processes, which need nothing but this module."""
    path, key = job
    try:
        return scan_image(Path(path).read_bytes(), key)
    except OSError as error:
        return ScannedImage(error=f"{key}: its file is gone ({error.strerror})")


def likeness_hash(pixels: NDArray[np.uint8]) -> int:
    """64 bits that change little with size, coding and light: which of two neighbours is lighter, in 8 rows of 9 means.

    The difference hash (Krawetz, Kind of Like That, 2013).
    """
    small = shrunk(pixels, 9, 8).astype(np.int64) @ np.array([299, 587, 114])
    bits = np.packbits(small[:, 1:] > small[:, :-1])
    return int.from_bytes(bits.tobytes(), "big")


class ImageChecks:
    """Takes examined pictures one at a time; keeps a fingerprint of each, and the sum of their levels by split."""

    def __init__(self) -> None:
        self.notes = FindingCounts()
        self.levels: defaultdict[str, NDArray[np.int64]] = defaultdict(lambda: np.zeros((3, 256), np.int64))
        self._prints: dict[str, tuple[str, str, int]] = {}

    def add(self, key: str, split: str, digest: str, found: ScannedImage) -> None:
        """One picture: its key, split, the SHA-256 of its file and what was found."""
        if found.error:
            self.notes.add(found.kind, found.error, key)
            return
        self.levels[split] += found.levels
        self._prints.setdefault(digest, (key, split, found.fingerprint))

    def findings(self) -> list[Finding]:
        """Damaged pictures and those that look alike, the worst kinds first. Equal files are not counted as alike."""
        # Fingerprints that differ in at most three bits agree in at least one of their four quarters. A picture is
        # compared only with those that resemble none before: of a thousand frames of one scene each is named once.
        quarters: defaultdict[tuple[int, int], list[tuple[str, str, int]]] = defaultdict(list)
        for key, split, bits in self._prints.values():
            near = ((quarter, bits >> (16 * quarter) & 0xFFFF) for quarter in range(4))
            buckets = [quarters[place] for place in near]
            like = next(((other, of) for bucket in buckets for other, of, its in bucket if (its ^ bits).bit_count() <= ALIKE), None)
            if like is None:
                for bucket in buckets:
                    bucket.append((key, split, bits))
            else:
                self.notes.add("alike-across-splits" if like[1] != split else "alike", f"{like[0]} ~ {key}", key)
        return by_severity(self.notes.findings())
