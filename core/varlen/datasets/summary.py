"""A first look at a dataset: sizes, classes, splits, channel statistics."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.dataset import Dataset
from varlen.datasets.skeleton import mirror_pairs
from varlen.errors import DatasetError, ReadProblems
from varlen.model.objects import Objects

T = TypeVar("T")


def summarise(dataset: Dataset, problems: ReadProblems | None = None, progress: Callable[[], None] = lambda: None) -> dict[str, Any]:
    """Counts, sizes and channel statistics as JSON-able values.

    Mean and standard deviation are exact over every pixel of the training split (of all
    images where there is none), per channel in 0-255 levels. Every picture of that split is
    decoded; a damaged one is noted in `problems`, or raises `DatasetError` naming it.
    """
    classes: dict[str, Counter[str]] = {split: Counter() for split in dataset.splits()}
    for entry in dataset.entries.values():
        classes[entry.split].update(entry.labels(dataset.classes))
    sizes = Counter(f"{entry.size.width}×{entry.size.height}" for entry in dataset.entries.values())
    mean, deviation = channel_statistics(dataset, progress, problems)
    return {
        "name": dataset.name,
        "format": dataset.format,
        "why": dataset.why,
        "splits_drawn": dataset.splits_drawn,
        "images": len(dataset.entries),
        "problems": [message for _, message in problems.noted] if problems else [],
        "splits": dataset.counts(),
        "classes": {name: {split: classes[split][name] for split in classes} for name in dataset.classes},
        "label_maps": list(dataset.map_classes) if any(entry.label_map for entry in dataset.entries.values()) else [],
        "image_sizes": dict(sizes.most_common()),
        "objects": {
            "boxes": sum(len(entry.objects) for entry in dataset.entries.values()),
            "polygons": sum(_outlined(entry.objects) for entry in dataset.entries.values()),
            "oriented_boxes": sum(len(entry.objects.oriented.owners) for entry in dataset.entries.values()),
            "masks": sum(mask is not None for entry in dataset.entries.values() for mask in entry.objects.masks),
            "crowd": sum(int(entry.objects.crowd.sum()) for entry in dataset.entries.values()),
        },
        "keypoints": list(dataset.skeleton.names),
        "mirror_pairs": mirror_pairs(dataset.skeleton),
        "unpaired": dataset.skeleton.unpaired(),
        "channel_mean": mean,
        "channel_std": deviation,
        "files": dataset.account.to_json() if dataset.account is not None else {},
    }


def _outlined(objects: Objects) -> int:
    """How many objects have an outline of their own."""
    return len(np.unique(objects.outlines.owners)) - int(objects.oriented.alone.sum())


def box_sides(boxes: NDArray[np.float64]) -> NDArray[np.float64]:
    """Square roots of the areas of boxes (N, 4), px."""
    sides: NDArray[np.float64] = np.sqrt(np.maximum((boxes[:, 2] - boxes[:, 0]) * (boxes[:, 3] - boxes[:, 1]), 0.0))
    return sides


def channel_statistics(dataset: Dataset, progress: Callable[[], None], problems: ReadProblems | None = None) -> tuple[list[float], list[float]]:
    """Mean and standard deviation per channel over the training split (all images where there is none)."""
    chosen = "train" if "train" in dataset.splits() else None
    levels = np.zeros((3, 256), np.int64)
    for key, entry in dataset.entries.items():
        if chosen in (None, entry.split):
            try:
                pixels = dataset.pixels(key)
            except DatasetError as error:
                (problems or ReadProblems()).note("damaged-file", str(error))
                continue
            levels += [np.bincount(pixels[:, :, channel].ravel(), minlength=256) for channel in range(3)]
        progress()
    return mean_and_deviation(levels)


def mean_and_deviation(levels: NDArray[np.int64]) -> tuple[list[float], list[float]]:
    """Mean and standard deviation of each channel from how often each level occurs, (3, 256); exact sums, rounded to 1/1000."""
    count = int(levels[0].sum())
    if count == 0:
        return [], []
    scale = np.arange(256, dtype=np.int64)
    mean = (levels @ scale) / count
    deviation = np.sqrt(np.maximum((levels @ (scale * scale)) / count - mean**2, 0.0))
    return np.round(mean, 3).tolist(), np.round(deviation, 3).tolist()


def evenly_spaced(keys: Sequence[T], count: int) -> list[T]:
    """`count` of the keys, evenly spread."""
    if count >= len(keys):
        return list(keys)
    return [keys[n * len(keys) // count] for n in range(count)]
