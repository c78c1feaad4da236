"""One sample as arrays, and several as one."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal, NotRequired, TypedDict, cast

import numpy as np
from numpy.typing import NDArray

from varlen.errors import VarlenError


class _Parts(TypedDict):
    """What a sample and a batch both hold."""

    image: NDArray[Any]
    boxes: NDArray[np.float32]
    classes: NDArray[np.int64]
    keypoints: NDArray[np.float32]
    crowd: NDArray[np.bool_]
    image_classes: NDArray[np.float32]
    label_map: NotRequired[NDArray[np.uint8]]
    masks: NotRequired[NDArray[np.bool_]]
    oriented: NotRequired[NDArray[np.float32]]


class Sample(_Parts):
    """One sample as arrays (see `Samples.sample`). polygons: for each object its rings, None without."""

    polygons: list[list[NDArray[np.float32]] | None]
    key: str
    variant: int


class Batch(_Parts):
    """Several samples as one (see `batch`). counts: of padded batches; starts: of ragged ones."""

    polygons: list[Any]
    keys: list[str]
    variants: list[int]
    counts: NotRequired[NDArray[np.int64]]
    starts: NotRequired[NDArray[np.int64]]


def batch(samples: Sequence[Sample], boxes: Literal["padded", "ragged"] = "padded") -> Batch:
    """Several samples of one size as one.

    image: (B, …). padded: boxes (B, M, 4), classes (B, M) with −1 where there is none, keypoints
    (B, M, K, 3), crowd (B, M), masks (B, M, H, W), oriented (B, M, 4, 2), counts (B,) objects of each; polygons: a list for each image.
    ragged: all objects one after the other, boxes (N, 4) and so on, with starts (B + 1,). keys, variants: lists. image_classes: (B, C).
    Raises `VarlenError` for pictures of several sizes, or no samples.

    >>> import varlen as v
    >>> samples = v.stream("moths", v.Pipeline([v.Resize(width_px=64, height_px=48)]))
    >>> batch = v.batch([samples[0], samples[1]])
    >>> batch["image"].shape, batch["counts"].tolist()[0] == len(samples[0]["boxes"])
    ((2, 48, 64, 3), True)
    """
    if not samples:
        raise VarlenError("a batch needs at least one sample")
    shapes = {sample["image"].shape for sample in samples}
    if len(shapes) != 1:
        raise VarlenError(f"a batch needs pictures of one size, not {', '.join(map(str, sorted(shapes)))}: let the pipeline end with resize")
    counts = np.array([len(sample["classes"]) for sample in samples], np.int64)
    found: dict[str, Any] = {"image": np.stack([sample["image"] for sample in samples])}
    fields = ["boxes", "classes", "keypoints", "crowd", *(name for name in ("masks", "oriented") if any(name in sample for sample in samples))]
    own = cast(list[dict[str, Any]], samples)
    if boxes == "ragged":
        found |= {name: np.concatenate([_of(sample, name) for sample in own]) for name in fields}
        found["polygons"] = [polygon for sample in samples for polygon in sample["polygons"]]
        found["starts"] = np.concatenate([[0], np.cumsum(counts)])
    else:
        most = int(counts.max(initial=0))
        found |= {name: _padded([_of(sample, name) for sample in own], most, -1 if name == "classes" else 0) for name in fields}
        found["polygons"] = [sample["polygons"] for sample in samples]
        found["counts"] = counts
    maps = [sample["label_map"] for sample in samples if "label_map" in sample]
    if len(maps) == len(samples):
        found["label_map"] = np.stack(maps)
    found["image_classes"] = np.stack([sample["image_classes"] for sample in samples])
    found |= {"keys": [sample["key"] for sample in samples], "variants": [sample["variant"] for sample in samples]}
    return cast(Batch, found)


def _of(sample: dict[str, Any], name: str) -> NDArray[Any]:
    """A part of a sample; where only others of its batch have it, nothing for each of its objects."""
    if name in sample:
        found: NDArray[Any] = sample[name]
        return found
    count, (height, width) = len(sample["classes"]), _sides(sample["image"])
    return np.zeros((count, height, width), np.bool_) if name == "masks" else np.full((count, 4, 2), np.nan, np.float32)


def _sides(image: NDArray[Any]) -> tuple[int, int]:
    """Height and width, wherever the channels are."""
    return (image.shape[1], image.shape[2]) if image.shape[0] in (1, 3) else (image.shape[0], image.shape[1])


def _padded(arrays: list[NDArray[Any]], length: int, fill: int) -> NDArray[Any]:
    out = np.full((len(arrays), length, *arrays[0].shape[1:]), fill, arrays[0].dtype)
    for place, array in enumerate(arrays):
        out[place, : len(array)] = array
    return out
