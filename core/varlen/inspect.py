"""A first look at a dataset: sizes, classes, splits, channel statistics."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from typing import Any

import numpy as np

from varlen.dataset import Dataset


def summarise(dataset: Dataset, progress: Callable[[], None] = lambda: None) -> dict[str, Any]:
    """Counts, sizes and channel statistics as JSON-able values.

    Mean and standard deviation are exact over every pixel of the training split (of all
    images where there is none), per channel in 0-255 levels. Every picture of that split is
    decoded, so a damaged one raises `DatasetError` naming it.
    """
    classes: dict[str, Counter[str]] = {split: Counter() for split in dataset.splits()}
    for entry in dataset.entries.values():
        classes[entry.split].update(dataset.classes[number] for number in entry.objects.classes.tolist())
    sizes = Counter(f"{entry.size.width}×{entry.size.height}" for entry in dataset.entries.values())
    mean, deviation = channel_statistics(dataset, progress)
    return {
        "name": dataset.name,
        "splits": dataset.counts(),
        "classes": {name: {split: classes[split][name] for split in classes} for name in dataset.classes},
        "image_sizes": dict(sizes.most_common()),
        "objects": {
            "polygons": sum(polygon is not None for entry in dataset.entries.values() for polygon in entry.objects.polygons),
            "masks": sum(mask is not None for entry in dataset.entries.values() for mask in entry.objects.masks),
            "crowd": sum(int(entry.objects.crowd.sum()) for entry in dataset.entries.values()),
        },
        "keypoints": list(dataset.skeleton.names),
        "mirror_pairs": [[a, b] for a, b in enumerate(dataset.swap.tolist()) if a < b],
        "channel_mean": mean,
        "channel_std": deviation,
    }


def channel_statistics(dataset: Dataset, progress: Callable[[], None]) -> tuple[list[float], list[float]]:
    """Mean and standard deviation per channel, from exact whole-number sums."""
    splits = dataset.splits()
    chosen = "train" if "train" in splits else None
    total, squares, count = np.zeros(3, np.int64), np.zeros(3, np.int64), 0
    levels = np.arange(256, dtype=np.int64)
    for key, entry in dataset.entries.items():
        if chosen in (None, entry.split):
            pixels = dataset.pixels(key)
            for channel in range(3):
                histogram = np.bincount(pixels[:, :, channel].ravel(), minlength=256)
                total[channel] += histogram @ levels
                squares[channel] += histogram @ (levels * levels)
            count += pixels.shape[0] * pixels.shape[1]
        progress()
    if count == 0:
        return [], []
    mean = total / count
    deviation = np.sqrt(np.maximum(squares / count - mean**2, 0.0))
    return np.round(mean, 3).tolist(), np.round(deviation, 3).tolist()
