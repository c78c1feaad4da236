"""Datasets that were never files: arrays and their labels, held in memory."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Mapping, Sequence
from pathlib import PurePosixPath
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.array_checks import checked_image, in_color
from varlen.datasets.array_labels import Labels, keypoints_each, labels_from
from varlen.datasets.dataset import Dataset
from varlen.datasets.entry import Entry
from varlen.datasets.image_files import encode
from varlen.datasets.skeleton import Skeleton, numbered_points
from varlen.errors import ArrayError, DatasetError
from varlen.model.geometry import Size


class SourceSample(NamedTuple):
    """One image of a dataset with its labels: its key, (H, W, C) uint8, labels, and split. What `Dataset.from_arrays` takes, too.

    >>> import varlen as v
    >>> key, image, labels, split = v.read_dataset("moths")["images/train/night_0001.jpg"]
    >>> image.dtype, labels.keypoints.shape[1:], split
    (dtype('uint8'), (8, 3), 'train')
    """

    key: str
    image: NDArray[np.uint8]
    labels: Labels
    split: str = "train"


class ArrayFiles:
    """Arrays as if they were files: pictures and label maps as PNG, coded when they are asked for."""

    def __init__(self, name: str, pictures: Mapping[str, NDArray[np.uint8]], maps: Mapping[str, NDArray[np.uint8]]) -> None:
        self.name, self.pictures, self.maps = name, pictures, maps

    def read(self, path: str) -> bytes:
        """A picture or a label map as a PNG file. Raises `DatasetError` for another path."""
        if path in self.maps:
            return encode(self.maps[path][:, :, None], "png")
        if path not in self.pictures:
            raise DatasetError(f"{path}: there is no such array")
        return encode(self.pictures[path], "png")


class ArrayDataset(Dataset):
    """A dataset of arrays; made by `Dataset.from_arrays`."""

    files: ArrayFiles

    def pixels(self, key: str) -> NDArray[np.uint8]:
        """The picture, (H, W, 3) uint8, not to be written to; a gray one with its level in all three channels."""
        return in_color(self.files.pictures[key])

    def label_map(self, key: str) -> NDArray[np.uint8] | None:
        """The class of every pixel, (H, W) uint8; None where the image has no label map."""
        return self.files.maps.get(self.entries[key].label_map)

    def source_digest(self, key: str) -> str:
        """SHA-256 over a picture's shape and levels, in hex."""
        found = self._digests.get(key)
        if found is None:
            picture = np.ascontiguousarray(self.files.pictures[key])
            found = self._digests[key] = hashlib.sha256(f"{picture.shape}:".encode() + picture.tobytes()).hexdigest()
        return found


def from_arrays(samples: Iterable[Any], classes: Sequence[str] | None = None, map_classes: Sequence[str] = (),
                skeleton: Skeleton | Sequence[str] | None = None, name: str = "arrays") -> ArrayDataset:  # fmt: skip
    """See `Dataset.from_arrays`."""
    held: dict[str, tuple[NDArray[np.uint8], Labels, str]] = {}
    for place, sample in enumerate(samples):
        key, image, labels, split = _parts(sample, place)
        if key in held:
            raise ArrayError(f"samples[{place}]: the key {key!r} is there twice")
        held[key] = (checked_image(image, f"{key}: image"), _complete(labels, key), split)
    if not held:
        raise ArrayError("samples: there are none")
    named = _class_names([labels for _, labels, _ in held.values()], classes)
    places: dict[Any, int] = {each: place for place, each in enumerate(named)} | {place: place for place in range(len(named))}
    points = _skeleton(skeleton, [labels for _, labels, _ in held.values()])
    maps = {f"{key}.map.png": _levels(labels.label_map, key) for key, (_, labels, _) in held.items() if labels.label_map is not None}
    entries = []
    for key, (image, labels, split) in held.items():
        size = Size(image.shape[1], image.shape[0])
        objects = labels.objects(key, size, places, key, len(points.names))
        map_path = f"{key}.map.png" if labels.label_map is not None else ""
        entries.append(Entry(key, split, size, objects, classes=labels.image_classes, label_map=map_path))
    dataset = ArrayDataset(name, named, entries, ArrayFiles(name, {key: each[0] for key, each in held.items()}, maps), points)
    dataset.map_classes = tuple(map_classes) or (named if maps else ())
    dataset.mirror_classes = merged_pairs(labels.mirror_classes for _, labels, _ in held.values())
    dataset.format = "arrays"
    return dataset


def merged_pairs(given: Iterable[Mapping[str, str]]) -> dict[str, str]:
    """Pairs of classes that a mirror turns into each other, both ways."""
    found: dict[str, str] = {}
    for pairs in given:
        for one, other in pairs.items():
            found |= {one: other, other: one}
    return found


def source_sample(dataset: Dataset, key: str) -> SourceSample:
    """One image of any dataset, decoded, with its labels."""
    entry = dataset.entries[key]
    labels = labels_from(entry.objects, entry.size, dataset.classes, skeleton=dataset.skeleton, label_map=dataset.label_map(key),
                         image_classes=entry.classes, mirror_classes=dataset.mirror_classes)  # fmt: skip
    return SourceSample(key, dataset.pixels(key), labels, entry.split)


def _parts(sample: Any, place: int) -> tuple[str, Any, Labels, str]:
    """Key, image, labels and split of a sample. Raises `ArrayError` for anything else."""
    if not isinstance(sample, (tuple, list)) or not 2 <= len(sample) <= 4:
        raise ArrayError(f"samples[{place}]: expected (key, image, labels) or (key, image, labels, split), not {type(sample).__name__}")
    key, image, *rest = sample
    labels, split = (rest[0] if rest else None), (rest[1] if len(rest) > 1 else "train")
    path = PurePosixPath(str(key))
    if not isinstance(key, str) or not key or path.is_absolute() or ".." in path.parts or "\0" in key or "\\" in key:
        raise ArrayError(f"samples[{place}]: a key is a name such as 'night_0001' or a path such as 'a/night_0001', not {key!r}")
    if labels is not None and not isinstance(labels, Labels):
        raise ArrayError(f"samples[{place}]: labels are a Labels object, not {type(labels).__name__}; write Labels(boxes=…, classes=…)")
    if not isinstance(split, str) or not split:
        raise ArrayError(f"samples[{place}]: a split is a name such as 'train', not {split!r}")
    return key, image, labels or Labels(), split


def _complete(labels: Labels, key: str) -> Labels:
    if len(labels) and labels.classes is None:
        raise ArrayError(f"{key}: its {len(labels)} objects have no classes; write Labels(…, classes=[…]), one for each")
    return labels


def _class_names(all_labels: Sequence[Labels], classes: Sequence[str] | None) -> tuple[str, ...]:
    """The dataset's classes: as given, else all there are, in the order in which they are met."""
    if isinstance(classes, str):
        raise ArrayError(f"classes: expected a list of names, not {classes!r}; write [{classes!r}]")
    met = dict.fromkeys(each for labels in all_labels for each in (*([] if labels.classes is None else labels.classes), *labels.image_classes))
    if classes is not None:
        if missing := [each for each in met if isinstance(each, str) and each not in classes]:
            raise ArrayError(f"classes: {missing[0]!r} is on an image and not among them")
    elif any(not isinstance(each, str) for each in met):
        raise ArrayError("classes are numbers; write Dataset.from_arrays(samples, classes=[…]) with their names, or names in Labels")
    return tuple(classes if classes is not None else met)


def _skeleton(given: Skeleton | Sequence[str] | None, all_labels: Sequence[Labels]) -> Skeleton:
    """The one skeleton of all labels. Raises `ArrayError` where they have several."""
    found = {labels.skeleton for labels in all_labels if labels.skeleton.names}
    if given is not None:
        return given if isinstance(given, Skeleton) else Skeleton(tuple(given))
    if len(found) > 1:
        raise ArrayError("the labels have several skeletons; a dataset has one: write Dataset.from_arrays(samples, skeleton=…)")
    return next(iter(found), numbered_points(keypoints_each(all_labels)))


def _levels(label_map: NDArray[Any], key: str) -> NDArray[np.uint8]:
    if label_map.ndim != 2 or label_map.dtype != np.uint8:
        raise ArrayError(f"{key}: label_map is {label_map.dtype} {label_map.shape}; in a dataset it is (H, W) uint8, 255 for what is not known")
    return label_map
