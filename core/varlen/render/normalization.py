"""What `normalize` means wherever arrays are made: the training stream and array exports ask here.

Every enabled normalize step shifts and scales: p → (p − mean) / deviation, per channel. What a step does not name
is the training split's own figure. Several steps follow one another, as any steps do, and are one shift and scale:

    ((p − m₁) / s₁ − m₂) / s₂ = (p − (m₁ + m₂ s₁)) / (s₁ s₂)
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.dataset import Dataset
from varlen.datasets.summary import channel_statistics
from varlen.pipeline.document import Pipeline
from varlen.steps.normalize import Normalize


class Figures(NamedTuple):
    """Mean and standard deviation of each channel, in levels of 0-255."""

    mean: list[float]
    deviation: list[float]

    def apply(self, pixels: NDArray[np.uint8]) -> NDArray[np.float32]:
        """Pixels (…, C) as float32, shifted and scaled."""
        mean, deviation = np.array(self.mean, np.float32), np.array(self.deviation, np.float32)
        scaled: NDArray[Any] = (pixels.astype(np.float32) - mean) / deviation
        return scaled


def pipeline_figures(pipeline: Pipeline, dataset: Dataset) -> Figures | None:
    """The figures of a pipeline's normalize steps; None where it has none."""
    steps = [step for step in pipeline.steps if isinstance(step, Normalize) and step.enabled]
    if not steps:
        return None
    unnamed = any(step.mean is None or step.std is None for step in steps)
    own = dataset_figures(dataset) if unnamed else Figures([], [])
    whole = Figures([0.0] * 3, [1.0] * 3)
    for step in steps:
        whole = _then(whole, step.mean or own.mean, step.std or own.deviation)
    return whole


def dataset_figures(dataset: Dataset) -> Figures:
    """The figures of the training split, of all images where there is none."""
    return Figures(*channel_statistics(dataset, lambda: None))


def _then(first: Figures, mean: Sequence[float], deviation: Sequence[float]) -> Figures:
    shifted = [m1 + m2 * s1 for m1, s1, m2 in zip(first.mean, first.deviation, mean, strict=True)]
    return Figures(shifted, [s1 * s2 for s1, s2 in zip(first.deviation, deviation, strict=True)])
