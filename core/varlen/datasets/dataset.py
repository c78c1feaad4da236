"""Dataset: images with their labels, classes, splits and skeleton, wherever they came from."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from pathlib import PurePosixPath
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.array_checks import in_color
from varlen.datasets.array_labels import Labels, keypoints_each, labels_from
from varlen.datasets.digests import Digests, content_digest, map_digest, whole_digest
from varlen.datasets.entry import Entry, StoredEntries, entries_of
from varlen.datasets.given_pictures import GivenPictures
from varlen.datasets.image_files import decode, decode_levels, encode
from varlen.datasets.skeleton import Skeleton, numbered_points
from varlen.datasets.sources import Files
from varlen.datasets.splits import in_order
from varlen.draws import PartnerRing
from varlen.errors import ArrayError, DatasetError
from varlen.model.geometry import Size
from varlen.model.objects import Objects

if TYPE_CHECKING:
    from varlen.datasets.account import Account


class Dataset:
    """Images, classes, splits and skeleton. Pictures are decoded when asked for, never kept.

    >>> import varlen as v
    >>> moths = v.read_dataset("moths")
    >>> len(moths), moths.images_by_split(), moths.classes[:2]
    (60, {'train': 48, 'validation': 6, 'test': 6}, ('ash veil', 'copper hook'))
    """

    def __init__(self, name: str, classes: Iterable[str], entries: Iterable[Entry], files: Files, skeleton: Skeleton | None = None,
                 extra: dict[str, Any] | None = None, digests: dict[str, str] | None = None) -> None:  # fmt: skip
        self.name = name
        self.classes = tuple(classes)
        self.entries: Mapping[str, Entry] = entries_of(entries)
        self.files = files
        self.skeleton = skeleton or Skeleton()
        self.extra = extra or {}
        self.map_classes: tuple[str, ...] = ()  # what the levels of label maps mean
        self.mirror_classes: dict[str, str] = {}  # classes that a mirror turns into each other, both ways
        self.read_as: dict[str, Any] = {}  # the options it was read with, where they are not the usual ones
        self.splits_drawn = False  # whether the splits were drawn, for want of any in the files
        self.why: list[str] = []  # the files that spoke for its format
        self.account: Account | None = None  # what its files are, where it was read from files
        self.questions: list[str] = []  # what may be meant otherwise, and which option says so
        self.origin = ""  # where it was read from, when that is a place on this machine
        self.format = ""  # and in which form
        self._digests = Digests(self.entries, digests or {})
        self._peers: dict[tuple[str, bool], PartnerRing] = {}

    @staticmethod
    def from_arrays(samples: Iterable[Any], classes: Sequence[str] | None = None, map_classes: Sequence[str] = (),
                    skeleton: Skeleton | Sequence[str] | None = None, name: str = "arrays") -> Dataset:  # fmt: skip
        """A dataset of arrays, without files.

        samples: (key, image, labels) or (key, image, labels, split) of each, the split "train" where none is said; image: (H, W, 3) or
        (H, W, 1) uint8, kept and not copied, or a path, a PIL image or anything with `__array__` and `shape`, which are read each time
        they are shown; labels: `Labels`, or None. classes: the names of all classes, needed where labels hold numbers; map_classes:
        what the levels of label maps mean; skeleton: names of the keypoints. Raises `ArrayError` naming the sample.

        >>> import numpy as np, varlen as v
        >>> moths = [(f"night_{n}", np.zeros((48, 64, 3), np.uint8), v.Labels(boxes=[[4, 4, 20, 30]], classes=["ash veil"])) for n in range(3)]
        >>> v.Dataset.from_arrays(moths)
        Dataset('arrays': 3 images, 1 split, 1 class)
        """

        return from_arrays(samples, classes, map_classes, skeleton, name)

    def __repr__(self) -> str:
        facts = ((len(self), "image", "s"), (len(self.splits()), "split", "s"), (len(self.classes), "class", "es"))
        return f"Dataset({self.name!r}: {', '.join(f'{count} {word}{many * (count != 1)}' for count, word, many in facts)})"

    def __len__(self) -> int:
        return len(self.entries)

    def __bool__(self) -> bool:
        return True

    def __iter__(self) -> Iterator[SourceSample]:
        """Every image in the order of keys: (key, image, labels, split), as `from_arrays` takes them."""
        return (self[key] for key in self.entries)

    def __getitem__(self, key: str) -> SourceSample:
        """One image with its labels: (key, image, labels, split). Raises `KeyError` for a key that isn't there."""

        return source_sample(self, key)

    @cached_property
    def swap(self) -> NDArray[np.int64]:
        """Mirror partners of the skeleton's keypoints."""
        return self.skeleton.swap()

    @cached_property
    def class_swap(self) -> NDArray[np.int64]:
        """For each class the one that a mirror turns it into; empty where there are no such pairs."""
        if not self.mirror_classes:
            return np.zeros(0, np.int64)
        places = {name: place for place, name in enumerate(self.classes)}
        return np.array([places.get(self.mirror_classes.get(name, name), place) for name, place in places.items()], np.int64)

    @cached_property
    def level_swap(self) -> NDArray[np.uint8] | None:
        """For each level of a label map the one that a mirror turns it into; None where there are no such pairs."""
        if not any(name in self.mirror_classes for name in self.map_classes):
            return None
        places = {name: place for place, name in enumerate(self.map_classes)}
        found = np.arange(256, dtype=np.uint8)
        for name, place in places.items():
            found[place] = places.get(self.mirror_classes.get(name, name), place)
        return found

    def size_of(self, key: str) -> Size:
        """Upright width and height of an image."""
        return self.entries[key].size

    def objects_of(self, key: str) -> Objects:
        """The labels of an image."""
        return self.entries[key].objects

    def peers_of(self, split: str, by_group: bool = False) -> PartnerRing:
        """The ring of images, or of groups of images, that partners are drawn from."""
        if (split, by_group) not in self._peers:
            keys = self.by_split().get(split, [])
            groups: dict[str, list[str]] = {}
            for key in keys if by_group else ():
                groups.setdefault(self.draw_key(key, by_group), []).append(key)
            self._peers[split, by_group] = PartnerRing(groups) if by_group else PartnerRing.alone(keys)
        return self._peers[split, by_group]

    def draw_key(self, key: str, by_group: bool) -> str:
        """What an image's draws depend on: its key, or the name of its group."""
        return (by_group and self.entries[key].group) or key

    def label_map(self, key: str) -> NDArray[np.uint8] | None:
        """The class of every pixel, (H, W) uint8; None where the dataset has no label map for the image."""
        path = self.entries[key].label_map
        if not path:
            return None
        return check_map_size(decode_levels(self.files.read(path), path), path, self.entries[key].size)

    def splits(self) -> list[str]:
        """The splits that have images, in their usual order."""
        return in_order(self.by_split())

    def by_split(self) -> dict[str, Sequence[str]]:
        """The keys of every split's images, in order."""
        if isinstance(self.entries, StoredEntries):
            return self.entries.by_split()
        found: dict[str, list[str]] = {}
        for key, entry in self.entries.items():
            found.setdefault(entry.split, []).append(key)
        return {**found}

    def images_by_split(self) -> dict[str, int]:
        """How many images each split has; no image's labels are read for it."""
        by_split = self.by_split()
        return {split: len(by_split[split]) for split in in_order(by_split)}

    def counts(self) -> dict[str, dict[str, int]]:
        """Images and objects per split."""
        images, objects = Counter[str](), Counter[str]()
        for entry in self.entries.values():
            images[entry.split] += 1
            objects[entry.split] += len(entry.objects)
        return {split: {"images": images[split], "objects": objects[split]} for split in self.splits()}

    def source(self, key: str) -> bytes:
        """The image file's bytes."""
        return self.files.read(key)

    def pixels(self, key: str) -> NDArray[np.uint8]:
        """The decoded picture, (H, W, 3) uint8. Raises `DatasetError` naming the file."""
        data = self.source(key)
        if self._digests.get(key) is None:
            self._digests[key] = hashlib.sha256(data).hexdigest()
        pixels = decode(data, key)
        size = self.entries[key].size
        if pixels.shape[:2] != (size.height, size.width):
            raise DatasetError(f"{key}: the picture is {pixels.shape[1]}×{pixels.shape[0]} px, its labels say {size.width}×{size.height} px")
        return pixels

    def source_digest(self, key: str) -> str:
        """SHA-256 of the image file, in hex."""
        found = self._digests.get(key)
        if found is None:
            found = self._digests[key] = hashlib.sha256(self.source(key)).hexdigest()
        return found

    def digest(self, progress: Callable[[], None] = lambda: None) -> str:
        """`sha256:…` over image contents, labels, classes and splits; file names and order don't count."""

        def images() -> Iterator[tuple[str, str]]:
            for key, entry in self.entries.items():
                yield entry.split, content_digest(entry, self.classes, self.source_digest(key), self._map_digest(entry))
                progress()

        return whole_digest(self.classes, self.skeleton.names, images(), self._reading())

    def _reading(self) -> dict[str, Any]:
        """What of the way it was read changes pixels or labels, and so counts in the digest; empty for the usual way."""
        return reading_facts(self.skeleton, self.mirror_classes, "mirror_pairs" in self.read_as)

    def _map_digest(self, entry: Entry) -> str:
        levels = self.label_map(entry.key)
        return "" if levels is None else map_digest(levels)


def reading_facts(skeleton: Skeleton, mirror_classes: Mapping[str, str], chosen_pairs: bool) -> dict[str, Any]:
    """Of the way a dataset is read what changes its labels but stands in none of them; empty for the usual way."""
    found: dict[str, Any] = {"mirror_classes": sorted(map(list, mirror_classes.items()))}
    if chosen_pairs and skeleton.swap().tolist() != Skeleton(skeleton.names).swap().tolist():
        found["mirror_pairs"] = skeleton.swap().tolist()
    return {name: value for name, value in found.items() if value}


def check_map_size(levels: NDArray[np.uint8], path: str, size: Size) -> NDArray[np.uint8]:
    """A label map's levels, (H, W). Raises `DatasetError` naming its file when its picture has another size."""
    if levels.shape != (size.height, size.width):
        raise DatasetError(f"{path}: the label map is {levels.shape[1]}×{levels.shape[0]} px, its picture {size.width}×{size.height} px")
    return levels


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
    held: dict[str, tuple[Any, Labels, str]] = {}
    for place, sample in enumerate(samples):
        key, image, labels, split = _parts(sample, place)
        if key in held:
            raise ArrayError(f"samples[{place}]: the key {key!r} is there twice")
        held[key] = (image, _complete(labels, key), split)
    if not held:
        raise ArrayError("samples: there are none")
    named = _class_names([labels for _, labels, _ in held.values()], classes)
    places: dict[Any, int] = {each: place for place, each in enumerate(named)} | {place: place for place in range(len(named))}
    points = _skeleton(skeleton, [labels for _, labels, _ in held.values()])
    maps = {f"{key}.map.png": _levels(labels.label_map, key) for key, (_, labels, _) in held.items() if labels.label_map is not None}
    entries = []
    pictures = GivenPictures({key: image for key, (image, _, _) in held.items()})
    for key, (_, labels, split) in held.items():
        size = pictures.size(key)
        objects = labels.objects(key, size, places, key, len(points.names))
        map_path = f"{key}.map.png" if labels.label_map is not None else ""
        entries.append(Entry(key, split, size, objects, classes=labels.image_classes, label_map=map_path))
    dataset = ArrayDataset(name, named, entries, ArrayFiles(name, pictures, maps), points)
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
