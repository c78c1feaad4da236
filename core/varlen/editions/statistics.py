"""What an edition holds, counted while it is put together, beside what its source held."""

from __future__ import annotations

from collections import Counter
from typing import Any

import numpy as np

from varlen.datasets.dataset import Dataset
from varlen.datasets.summary import box_sides
from varlen.editions.chunks import SIDE_BINS, WrittenRow, side_bins
from varlen.editions.export_spec import ExportSpec
from varlen.editions.record import SplitCount


class Statistics:
    """Images, objects per class, box sides and fates; `before`: the source images of the splits that are written."""

    def __init__(self, dataset: Dataset, spec: ExportSpec) -> None:
        self.classes = dataset.classes
        self.splits = spec.written(dataset.splits())
        self._images = dict.fromkeys(self.splits, 0)
        self._objects = {split: np.zeros(len(self.classes), np.int64) for split in self.splits}
        self._sides = {split: np.zeros(SIDE_BINS, np.int64) for split in self.splits}
        self._whole: dict[str, Counter[str]] = {split: Counter() for split in self.splits}
        self._outcomes = np.zeros(3, np.int64)
        self._blank = 0.0
        self._before = _Source(dataset, self.splits)

    def add(self, record: WrittenRow) -> None:
        """Count one image."""
        self._images[record.split] += 1
        self._whole[record.split].update(record.image_classes)
        self._objects[record.split] += np.array(record.classes, np.int64)
        self._sides[record.split] += np.array(record.sides, np.int64)
        self._outcomes += np.array(record.outcomes, np.int64)
        self._blank += record.blank

    def counts(self) -> dict[str, SplitCount]:
        """Images, objects and objects per class of every split."""
        return {split: _counted(self._images[split], self._objects[split], self.classes, self._whole[split]) for split in self.splits}

    def to_json(self) -> dict[str, Any]:
        """Before and after: counts per split and box sides; what became of objects; mean blank share."""
        whole, clipped, dropped = self._outcomes.tolist()
        images = sum(self._images.values())
        return {
            "before": self._before.counts,
            "box_side_px": {
                "from": [round(2.0 ** (place / 2), 2) for place in range(SIDE_BINS)],
                "before": {split: sides.tolist() for split, sides in self._before.sides.items()},
                "after": {split: sides.tolist() for split, sides in self._sides.items()},
            },
            "objects": {"kept": whole, "clipped": clipped, "dropped": dropped},
            "blank_share": round(self._blank / max(images, 1), 6),
        }


class _Source:
    """The same counts over the source images."""

    def __init__(self, dataset: Dataset, splits: list[str]) -> None:
        images = dict.fromkeys(splits, 0)
        whole: dict[str, Counter[str]] = {split: Counter() for split in splits}
        objects = {split: np.zeros(len(dataset.classes), np.int64) for split in splits}
        self.sides = {split: np.zeros(SIDE_BINS, np.int64) for split in splits}
        for entry in dataset.entries.values():
            if entry.split in images:
                images[entry.split] += 1
                whole[entry.split].update(entry.classes)
                objects[entry.split] += np.bincount(entry.objects.classes, minlength=len(dataset.classes))
                self.sides[entry.split] += np.array(side_bins(box_sides(entry.objects.boxes)), np.int64)
        self.counts = {split: _counted(images[split], objects[split], dataset.classes, whole[split]) for split in splits}


def _counted(images: int, objects: np.ndarray[tuple[int], np.dtype[np.int64]], classes: tuple[str, ...], whole: Counter[str]) -> SplitCount:
    found: SplitCount = {"images": images, "objects": int(objects.sum()), "classes": dict(zip(classes, objects.tolist(), strict=True))}
    if whole:
        found["image_classes"] = dict(sorted(whole.items()))
    return found
