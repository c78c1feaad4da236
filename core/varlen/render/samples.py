"""Straight into training: samples as arrays, made when they are asked for.

A source has a length and is read by number, so any loader that works with such sources can
use it, in as many processes as it likes: what number n gives in epoch e depends on seed,
epoch and image alone. Epoch e of the training split gives variant e + 1, the same pixels and
labels that an edition holds under that number; other splits give their original.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any, Literal, NotRequired, TypedDict, cast

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import read_dataset
from varlen.errors import DatasetError, VarlenError
from varlen.pipeline.document import Pipeline, from_json, read
from varlen.render.normalization import Figures, dataset_figures, pipeline_figures
from varlen.render.picture_cache import PictureCache
from varlen.render.renderer import Renderer, lightness


class Sample(TypedDict):
    """One sample as arrays (see `Samples.__getitem__`)."""

    image: NDArray[Any]
    boxes: NDArray[np.float32]
    classes: NDArray[np.int64]
    keypoints: NDArray[np.float32]
    crowd: NDArray[np.bool_]
    polygons: list[list[NDArray[np.float32]] | None]
    image_classes: NDArray[np.float32]
    key: str
    variant: int
    label_map: NotRequired[NDArray[np.uint8]]


class Batch(TypedDict):
    """Several samples as one (see `batch`). counts: of padded batches; starts: of ragged ones."""

    image: NDArray[Any]
    boxes: NDArray[np.float32]
    classes: NDArray[np.int64]
    keypoints: NDArray[np.float32]
    crowd: NDArray[np.bool_]
    image_classes: NDArray[np.float32]
    keys: list[str]
    variants: list[int]
    counts: NotRequired[NDArray[np.int64]]
    starts: NotRequired[NDArray[np.int64]]
    label_map: NotRequired[NDArray[np.uint8]]


#: Decoded pictures are hardly met twice in an epoch: a few for partners will do.
CACHE_BYTES = 64 << 20


class _OwnRenderer(Renderer):
    """Its pictures are of one dataset, so their keys name them and nothing need be hashed."""

    def kept_as(self, image: str) -> str:
        return image


class Samples:
    """One split of a dataset through a pipeline, in one epoch. Can be pickled: every process decodes and draws on its own."""

    def __init__(self, dataset: Dataset, pipeline: Pipeline, split: str, epoch: int, channels: Literal["last", "first"],
                 figures: Figures | None) -> None:  # fmt: skip
        self.dataset, self.pipeline, self.split, self.channels = dataset, pipeline, split, channels
        self.keys = dataset.by_split().get(split, [])
        if not self.keys:
            raise DatasetError(f"{dataset.name}: no image is in the split {split!r}; there are {', '.join(dataset.splits())}")
        self.figures = figures
        self._renderer: Renderer | None = None
        self.set_epoch(epoch)

    def set_epoch(self, epoch: int) -> None:
        """Other draws for every image of the training split. Raises `VarlenError` for a negative number."""
        if epoch < 0:
            raise VarlenError(f"epoch: {epoch} is below 0")
        self.epoch = epoch

    def __len__(self) -> int:
        return len(self.keys)

    def __getstate__(self) -> dict[str, Any]:
        return {**self.__dict__, "_renderer": None}

    def __getitem__(self, number: int) -> Sample:
        """Sample `number` as arrays.

        image: (H, W, C) or (C, H, W), uint8, or float32 when normalised; boxes: (N, 4) float32
        x_min, y_min, x_max, y_max in px; classes: (N,) int64 places in the dataset's classes;
        keypoints: (N, K, 3) float32 x, y, visibility; crowd: (N,) bool; polygons: for each object its
        rings, (P, 2) float32, None without; label_map: (H, W) uint8, only where there is one;
        image_classes: (C,) float32, the share of each image-level class; key, variant: what it is.
        """
        if not -len(self) <= number < len(self):
            raise IndexError(f"sample {number} of {len(self)}")
        key = self.keys[number]
        variant = self.epoch + 1 if self.split == "train" else 0
        renderer = self._ready()
        plan = renderer.plan(key, variant)
        pixels = np.array(renderer.pixels(plan), order="C")  # our own: the renderer may keep what it gives
        if plan.gray:
            pixels = lightness(pixels)
        objects = renderer.labels(plan).objects
        classes = renderer.classes(plan)
        sample: Sample = {
            "image": self._arranged(pixels),
            "boxes": objects.boxes.astype(np.float32),
            "classes": objects.classes,
            "keypoints": objects.keypoints.astype(np.float32),
            "crowd": objects.crowd,
            "polygons": [None if polygon is None else [ring.astype(np.float32) for part in polygon for ring in (part.outline, *part.holes)]
                         for polygon in objects.polygons],
            "image_classes": np.array([classes.get(name, 0.0) for name in self.dataset.classes], np.float32),
            "key": key,
            "variant": variant,
        }  # fmt: skip
        levels = renderer.label_map(plan)
        if levels is not None:
            sample["label_map"] = levels
        return sample

    def _ready(self) -> Renderer:
        if self._renderer is None:
            self._renderer = _OwnRenderer(self.dataset, self.pipeline, PictureCache(CACHE_BYTES))
        return self._renderer

    def _arranged(self, pixels: NDArray[np.uint8]) -> NDArray[Any]:
        image: NDArray[Any] = pixels
        if self.figures is not None:
            image = self.figures.apply(pixels)
        return image if self.channels == "last" else np.ascontiguousarray(image.transpose(2, 0, 1))


def stream(dataset: Dataset | Path | str, pipeline: Pipeline | dict[str, Any] | Path | str, split: str = "train", epoch: int = 0, *,
           seed: int | None = None, channels: Literal["last", "first"] = "last",
           normalized: bool | tuple[Sequence[float], Sequence[float]] = False) -> Samples:  # fmt: skip
    """Samples of a split, to be read by number.

    dataset, pipeline: as read already, or where they lie; seed: instead of the pipeline's own;
    normalized: False for uint8, a mean and a deviation per channel in levels of 0-255, or True
    for those of the pipeline's `normalize` steps (see `normalization`), or of the training split where it has none.
    Raises `VarlenError` with one line for what can't be read.
    """
    found = dataset if isinstance(dataset, Dataset) else read_dataset(dataset)
    chosen = from_json(pipeline) if isinstance(pipeline, dict) else pipeline if isinstance(pipeline, Pipeline) else read(Path(pipeline))
    if seed is not None:
        chosen = chosen.with_seed(seed)
    if channels not in ("last", "first"):
        raise VarlenError(f"channels: {channels!r} is neither 'last' nor 'first'")
    return Samples(found, chosen, split, epoch, channels, _figures(normalized, found, chosen))


def _figures(normalized: bool | tuple[Sequence[float], Sequence[float]], dataset: Dataset, pipeline: Pipeline) -> Figures | None:
    if isinstance(normalized, tuple):
        return Figures(*map(list, normalized))
    return (pipeline_figures(pipeline, dataset) or dataset_figures(dataset)) if normalized else None


def batch(samples: Sequence[Sample], boxes: Literal["padded", "ragged"] = "padded") -> Batch:
    """Several samples of one size as one.

    image: (B, …). padded: boxes (B, M, 4), classes (B, M) with −1 where there is none, keypoints
    (B, M, K, 3), crowd (B, M), counts (B,) objects of each. ragged: all objects one after the
    other, boxes (N, 4) and so on, with starts (B + 1,). keys, variants: lists. Raises `VarlenError`
    for pictures of several sizes.
    """
    shapes = {sample["image"].shape for sample in samples}
    if len(shapes) != 1:
        raise VarlenError(f"a batch needs pictures of one size, not {', '.join(map(str, sorted(shapes)))}: let the pipeline end with resize")
    counts = np.array([len(sample["classes"]) for sample in samples], np.int64)
    found: dict[str, Any] = {"image": np.stack([sample["image"] for sample in samples])}
    fields: tuple[Literal["boxes", "classes", "keypoints", "crowd"], ...] = ("boxes", "classes", "keypoints", "crowd")
    if boxes == "ragged":
        found |= {name: np.concatenate([sample[name] for sample in samples]) for name in fields}
        found["starts"] = np.concatenate([[0], np.cumsum(counts)])
    else:
        most = int(counts.max(initial=0))
        found |= {name: _padded([sample[name] for sample in samples], most, -1 if name == "classes" else 0) for name in fields}
        found["counts"] = counts
    maps = [sample["label_map"] for sample in samples if "label_map" in sample]
    if len(maps) == len(samples):
        found["label_map"] = np.stack(maps)
    found["image_classes"] = np.stack([sample["image_classes"] for sample in samples])
    found |= {"keys": [sample["key"] for sample in samples], "variants": [sample["variant"] for sample in samples]}
    return cast(Batch, found)


def _padded(arrays: list[NDArray[Any]], length: int, fill: int) -> NDArray[Any]:
    out = np.full((len(arrays), length, *arrays[0].shape[1:]), fill, arrays[0].dtype)
    for place, array in enumerate(arrays):
        out[place, : len(array)] = array
    return out
