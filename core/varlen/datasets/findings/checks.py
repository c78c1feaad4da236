"""What is checked of every image and its labels."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.entry import Entry
from varlen.datasets.findings.kinds import EXTREME, Finding, FindingCounts, by_severity, kind_of
from varlen.datasets.image_files import ImageHeader, decode
from varlen.datasets.level_rules import MapLevels
from varlen.datasets.prepared_files import PreparedFiles
from varlen.datasets.skeleton import Skeleton
from varlen.datasets.sources import Files
from varlen.datasets.splits import in_order
from varlen.errors import DatasetError, ReadProblems
from varlen.kernels.resample import shrunk
from varlen.model.geometry import Size
from varlen.model.objects import Objects

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


#: What a picture's type says its suffix should be.
_SUFFIXES = {"JPEG": (".jpg", ".jpeg"), "PNG": (".png",), "WEBP": (".webp",), "BMP": (".bmp",), "TIFF": (".tif", ".tiff")}
_MODES = {"P": "palette", "CMYK": "cmyk", "RGBA": "alpha", "LA": "alpha", "L": "gray", "1": "gray"}


class LabelChecks:
    """Takes a dataset's images one at a time; keeps counts, and of each image its key, split and digest."""

    def __init__(self, classes: Iterable[str], skeleton: Skeleton) -> None:
        self.classes, self.keypoints, self.skeleton = tuple(classes), skeleton.names, skeleton
        self.notes = FindingCounts()
        self.images: list[tuple[str, str, str]] = []
        self._counts: Counter[tuple[str, str]] = Counter()
        self._splits: set[str] = set()
        self._boxes = self._right = self._left = 0
        self._corner = True

    def labels(self, entry: Entry) -> None:
        """One image's labels."""
        self._splits.add(entry.split)
        self._counts.update((entry.split, self.classes[number]) for number in set(entry.objects.classes.tolist()))
        self._counts.update((entry.split, name) for name in entry.classes)
        self._convention(entry)
        self._each_box(entry)
        objects = entry.objects
        for place in _crossing(objects.outlines.points, objects.outlines.starts, objects.outlines.owners):
            self.notes.add("outline-crossing", f"{entry.key}: {self.classes[objects.classes[place]]} {objects.ids[place]}", entry.key)

    def header(self, key: str, facts: ImageHeader) -> None:
        """One picture file's header."""
        suffix = PurePosixPath(key).suffix.lower()
        if facts.format in _SUFFIXES and suffix not in _SUFFIXES[facts.format]:
            self.notes.add("wrong-suffix", f"{key}: is {facts.format}", key)
        if facts.orientation != 1:
            self.notes.add("exif-turned", key, key)
        kind = "16-bit" if facts.bits == 16 and not facts.unclear else _MODES.get(facts.mode)
        if kind:
            self.notes.add(kind, key, key)

    def label_map(self, key: str, files: Files, path: str, map_levels: MapLevels, classes: int) -> None:
        """One label map: levels or colors that no class is named for. Raises `DatasetError` where it can't be read."""
        raw = files.files if isinstance(files, PreparedFiles) and "\x1f" not in path else files
        rule = map_levels if raw is not files else MapLevels()
        for each in rule.unnamed(raw.read(path), path, classes):
            self.notes.add("unnamed-level", f"{path}: {each}", key)

    def image(self, key: str, split: str, digest: str) -> None:
        """One picture's content, as the SHA-256 of its file."""
        self.images.append((key, split, digest))

    def add(self, more: LabelChecks) -> None:
        """What was seen of more images of the same dataset, after those so far."""
        self.notes.extend(more.notes)
        self.images += more.images
        self._counts.update(more._counts)
        self._splits |= more._splits
        self._boxes += more._boxes
        self._right += more._right
        self._left += more._left
        self._corner &= more._corner

    def findings(self, problems: ReadProblems) -> list[Finding]:
        """All findings, the worst kinds first; also those noted in `problems` when the dataset was read."""
        for kind, message in (*problems.noted, *problems.remarked):
            self.notes.add(kind, message)
        for name in self.skeleton.unpaired():
            self.notes.add("no-mirror-partner", name)
        self._look_at_classes()
        self._look_at_convention()
        self._look_for_duplicates()
        return by_severity(self.notes.findings())

    def _each_box(self, entry: Entry) -> None:
        objects, key, size = entry.objects, entry.key, entry.size
        self._each_keypoint(entry)
        if not _odd_boxes(objects, size):
            return
        seen: dict[tuple[float, ...], str] = {}
        for place, (x0, y0, x1, y1) in enumerate(objects.boxes.tolist()):
            thing = objects.ids[place]
            name = f"{key}: {self.classes[objects.classes[place]]} {thing}"
            wide, high = x1 - x0, y1 - y0
            if wide <= 0 or high <= 0:
                self.notes.add("box-empty", f"{name}: {wide:g} × {high:g} px", key, thing)
                continue
            if x0 < -0.5 or y0 < -0.5 or x1 > size.width + 0.5 or y1 > size.height + 0.5:
                self.notes.add("box-outside", f"{name}: {x0:g} {y0:g} {x1:g} {y1:g} in {size.width}×{size.height} px", key, thing)
            if max(wide / high, high / wide) > EXTREME:
                self.notes.add("box-extreme", f"{name}: {wide:g} × {high:g} px", key, thing)
            same = (float(objects.classes[place]), *(round(value, 1) for value in (x0, y0, x1, y1)))
            if same in seen:
                self.notes.add("box-duplicate", f"{name}: same as {seen[same]}", key, thing)
            seen[same] = thing

    def _each_keypoint(self, entry: Entry) -> None:
        objects = entry.objects
        if objects.keypoints.shape[1] == 0 or len(objects) == 0:
            return
        boxes = objects.boxes
        slack = (0.1 * np.maximum(boxes[:, 2] - boxes[:, 0], boxes[:, 3] - boxes[:, 1]) + 2)[:, None]
        x, y, visible = np.moveaxis(objects.keypoints, 2, 0)
        off = (x < boxes[:, :1] - slack) | (x > boxes[:, 2:3] + slack) | (y < boxes[:, 1:2] - slack) | (y > boxes[:, 3:] + slack)
        real = (boxes[:, 2] > boxes[:, 0]) & (boxes[:, 3] > boxes[:, 1])
        for place, number in np.argwhere(off & (visible > 0) & real[:, None]).tolist():
            point = self.keypoints[number] if number < len(self.keypoints) else str(number)
            said = f"{self.classes[objects.classes[place]]} {objects.ids[place]}: {point} at {x[place, number]:g} {y[place, number]:g}"
            self.notes.add("keypoint-outside-box", f"{entry.key}: {said}", entry.key)

    def _convention(self, entry: Entry) -> None:
        boxes, size = entry.objects.boxes, entry.size
        if len(boxes) == 0:
            return
        self._boxes += len(boxes)
        self._corner &= min(size) <= 16 or bool(boxes.max() <= 2.0)
        self._right += int(((boxes[:, 2] > size.width + 1) | (boxes[:, 3] > size.height + 1)).sum())
        self._left += int((boxes[:, :2] < -1).any(axis=1).sum())

    def _look_at_classes(self) -> None:
        splits = in_order(self._splits)
        for name in self.classes:
            having = [split for split in splits if self._counts[split, name]]
            if not having:
                self.notes.add("class-unused", name)
            elif len(having) < len(splits):
                self.notes.add("class-missing-in-split", f"{name}: none in {', '.join(split for split in splits if split not in having)}")

    def _look_at_convention(self) -> None:
        """Signs that boxes were written in another convention than they were read in."""
        if self._boxes < 5:
            return
        if self._corner:
            self.notes.add("boxes-are-fractions", f"all {self._boxes} boxes end within 2 px of the top left corner")
        if self._right > 0.2 * self._boxes and self._left == 0:
            self.notes.add("boxes-are-centres", f"{self._right} of {self._boxes} boxes stick out to the right or below, none to the left or above")

    def _look_for_duplicates(self) -> None:
        same: defaultdict[str, list[tuple[str, str]]] = defaultdict(list)
        for key, split, digest in self.images:
            same[digest].append((key, split))
        for first, *others in same.values():
            for key, split in others:
                kind = "duplicate-across-splits" if split != first[1] else "duplicate"
                self.notes.add(kind, f"{first[0]} = {key}", key)


def _odd_boxes(objects: Objects, size: Size) -> bool:
    """Whether any box deserves a look: one without area, out of the picture, very long, or nearly the same as another."""
    if len(objects) == 0:
        return False
    low, high = objects.boxes[:, :2], objects.boxes[:, 2:]
    sides = high - low
    if sides.min() <= 0 or low.min() < -0.5 or (high > np.array(size) + 0.5).any() or (sides.max(axis=1) > EXTREME * sides.min(axis=1)).any():
        return True
    near = np.sort(low[:, 0] + low[:, 1] + high[:, 0] + high[:, 1])
    return bool((near[1:] - near[:-1] < 0.5).any())


def _crossing(points: NDArray[np.float64], starts: NDArray[np.int64], owners: NDArray[np.int64]) -> Iterable[int]:
    """Owners of rings that cross themselves."""
    if len(owners) == 0:
        return []
    import shapely

    rings = shapely.polygons(shapely.linearrings(points, indices=np.repeat(np.arange(len(owners)), np.diff(starts))))
    return dict.fromkeys(owners[~shapely.is_valid(rings)].tolist())
