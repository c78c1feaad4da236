"""What numbers levels become wherever arrays are made: the training stream and array exports ask here.

Every enabled normalize step shifts and scales: p → (p − mean) / deviation, per channel. What a step does not name
is the training split's own figure. Several steps follow one another, as any steps do, and are one shift and scale:

    ((p − m₁) / s₁ − m₂) / s₂ = (p − (m₁ + m₂ s₁)) / (s₁ s₂)

With 256 levels a channel there are 256 results: each is worked out once, in float32, and looked up.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.dataset import Dataset
from varlen.datasets.summary import channel_statistics
from varlen.errors import ArrayError
from varlen.pipeline.document import Pipeline
from varlen.steps.normalize import Normalize

#: Which numbers stand for black and white: levels, or shares of white.
LevelRange = Literal["0-255", "0-1"]
WHITE = {"0-255": 1.0, "0-1": 255.0}


class Figures(NamedTuple):
    """Mean and standard deviation of each channel, in levels of 0-255."""

    mean: list[float]
    deviation: list[float]

    def apply(self, pixels: NDArray[np.uint8]) -> NDArray[np.float32]:
        """Pixels (…, C) as float32, shifted and scaled."""
        return looked_up(pixels, self.table(), axis=-1)

    def table(self) -> NDArray[np.float32]:
        """What each level of each channel becomes, (C, 256) float32."""
        mean, deviation = np.array(self.mean, np.float32)[:, None], np.array(self.deviation, np.float32)[:, None]
        scaled: NDArray[np.float32] = (np.arange(256, dtype=np.float32) - mean) / deviation
        return scaled


def share_table() -> NDArray[np.float32]:
    """Each level as a share of white, (1, 256) float32."""
    shares: NDArray[np.float32] = np.arange(256, dtype=np.float32)[None] / np.float32(255)
    return shares


def looked_up(pixels: NDArray[np.uint8], table: NDArray[np.float32], axis: int) -> NDArray[np.float32]:
    """Levels (…, C) through a table (C, 256), or one (1, 256) for all channels; float32. axis: where the channels go, −1 or 0."""
    channels = max(pixels.shape[-1], len(table))
    shape = pixels.shape[:-1]
    out = np.empty((channels, *shape) if axis == 0 else (*shape, channels), np.float32)
    for channel in range(channels):
        levels = pixels[..., min(channel, pixels.shape[-1] - 1)]
        out[channel if axis == 0 else (..., channel)] = table[min(channel, len(table) - 1)][levels]
    return out


def given_figures(given: Sequence[Any], scale: LevelRange) -> Figures:
    """Figures as a person gave them: (mean, deviation), each one number for each channel, on the stated scale.

    Raises `ArrayError` for another length, a deviation of 0, and numbers that are plainly on the other scale.
    """
    if len(given) != 2:
        raise ArrayError(f"normalized: expected (mean, deviation), such as ([123.7, 116.3, 103.5], [58.4, 57.1, 57.4]), not {len(given)} values")
    mean, deviation = (_channel_values(each, name) for each, name in zip(given, ("mean", "deviation"), strict=True))
    if len(mean) != len(deviation):
        raise ArrayError(f"normalized: {len(mean)} means and {len(deviation)} deviations")
    _check_scale(mean, deviation, scale, "normalized")
    white = WHITE[scale]
    return checked(Figures([value * white for value in mean], [value * white for value in deviation]), "normalized")


def pipeline_figures(pipeline: Pipeline, dataset: Dataset | None) -> Figures | None:
    """The figures of a pipeline's normalize steps; None where it has none. dataset: where a step that names none takes its figures from.

    Raises `ArrayError` for figures on the wrong scale, and for figures that are wanted of no dataset.
    """
    steps = [step for step in pipeline.steps if isinstance(step, Normalize) and step.enabled]
    if not steps:
        return None
    unnamed = any(step.mean is None or step.std is None for step in steps)
    if unnamed and dataset is None:
        raise ArrayError("normalize: without mean and std it takes those of a training split, and there is none; write v.Normalize(mean=…, std=…)")
    own = dataset_figures(dataset) if unnamed and dataset is not None else Figures([], [])
    whole = Figures([0.0] * 3, [1.0] * 3)
    for place, step in enumerate(steps):
        if place == 0 and step.mean is not None and step.std is not None:
            _check_scale(list(step.mean), list(step.std), "0-255", f"step {step.id}")
        whole = _then(whole, step.mean or own.mean, step.std or own.deviation)
    return whole


def dataset_figures(dataset: Dataset) -> Figures:
    """The figures of the training split, of all images where there is none. Raises `ArrayError` for a channel that does not vary."""
    return checked(Figures(*channel_statistics(dataset, lambda: None)), "the training split")


def checked(figures: Figures, name: str) -> Figures:
    """The figures. Raises `ArrayError` where a deviation is 0 and nothing could be divided by it."""
    for channel, deviation in enumerate(figures.deviation):
        if not deviation > 0.0 or not np.isfinite(deviation) or not np.isfinite(figures.mean[channel]):
            raise ArrayError(f"{name}: the deviation of channel {channel} is {deviation:g}; give one above 0 as normalized=(mean, deviation)")
    return figures


def _channel_values(values: Any, name: str) -> list[float]:
    try:
        found = [float(value) for value in values]
    except (TypeError, ValueError):
        found = []
    if len(found) not in (1, 3):
        raise ArrayError(f"normalized: {name} holds {len(found)} numbers; expected one for each of three channels, or one for gray")
    return found


def _check_scale(mean: list[float], deviation: list[float], scale: LevelRange, name: str) -> None:
    """Raises `ArrayError` for figures of the other scale: nobody's pictures vary by less than one level, or by more than white."""
    if scale == "0-255" and max(mean) <= 1.0 and max(deviation) <= 1.0 and (max(mean) > 0.0 or max(deviation) < 1.0):
        raise ArrayError(f"{name}: a mean of {mean[0]:g} and a deviation of {deviation[0]:g} are on the scale 0-1, levels of 0-255 were expected: "
                         f"write {mean[0] * 255:g} and {deviation[0] * 255:g}" + ("" if name.startswith("step") else ', or range="0-1"'))  # fmt: skip
    if scale == "0-1" and (max(mean) > 1.0 or max(deviation) > 1.0):
        raise ArrayError(f'{name}: a mean of {mean[0]:g} and a deviation of {deviation[0]:g} are levels of 0-255, the scale 0-1 was expected with '
                         f'range="0-1": write {mean[0] / 255:.4g} and {deviation[0] / 255:.4g}')  # fmt: skip


def _then(first: Figures, mean: Sequence[float], deviation: Sequence[float]) -> Figures:
    shifted = [m1 + m2 * s1 for m1, s1, m2 in zip(first.mean, first.deviation, mean, strict=True)]
    return Figures(shifted, [s1 * s2 for s1, s2 in zip(first.deviation, deviation, strict=True)])
