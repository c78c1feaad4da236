"""One picture, and its partners if it needs any, as a dataset that a renderer can work on."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.array_labels import Labels, keypoints_each
from varlen.datasets.dataset import ArrayDataset, ArrayFiles, Dataset, SourceSample, merged_pairs
from varlen.datasets.entry import Entry
from varlen.datasets.given_pictures import given_picture
from varlen.datasets.level_rules import VOID
from varlen.datasets.skeleton import numbered_points
from varlen.datasets.splits import SPLITS
from varlen.draws import PartnerRing
from varlen.errors import ArrayError, RenderError
from varlen.model.geometry import Size
from varlen.pipeline.document import Pipeline
from varlen.render.renderer import OwnRenderer
from varlen.render.source_pictures import PictureCache

#: Decoded pictures are not kept: their arrays are at hand. Only what is made smaller of them is, for a few variants.
CACHE_BYTES = 32 << 20


NO_LABELS = Labels()
NO_PAIRS = np.zeros(0, np.int64)


class Pictures(ArrayDataset):
    """The picture that is rendered, and the partners it was given."""

    values: list[Any]  # the classes as they were given, by their places
    pipeline: Pipeline
    ring: PartnerRing | None = None  # of partners that are read when they are drawn

    def peers_of(self, split: str, by_group: bool = False) -> PartnerRing:
        """The pictures that partners are drawn from. Raises `RenderError` where none was given."""
        if self.ring is not None:
            return self.ring
        if len(self.entries) == 1:
            takers = [step.id for step in self.pipeline.all_steps() if step.purpose == "combine" and step.kind != "junction"]
            steps = ", ".join(takers) or "a step"
            raise RenderError(f"{steps}: takes in other pictures, which are wanted as render(…, partners=[(image, labels), …])")
        return super().peers_of(split, by_group)


class ArrayRenderer(OwnRenderer):
    """A renderer whose pictures are arrays: nothing is decoded or hashed."""

    def source(self, image: str) -> NDArray[np.uint8]:
        return self.dataset.pixels(image)


class NotRead(Exception):
    """A partner was drawn that has not been read yet."""

    def __init__(self, key: str) -> None:
        self.key = key


class _ReadEntries(dict[str, Entry]):
    def __missing__(self, key: str) -> Entry:
        raise NotRead(key)


class Source:
    """Where partners come from that are read only when they are drawn: a dataset, or a mapping of keys to (image, labels) or image."""

    def __init__(self, given: Mapping[str, Any] | Dataset) -> None:
        self.given = given

    def ring(self, split: str, own: str, by_group: bool) -> PartnerRing:
        """What partners of `own` are drawn from: the dataset's images of the split, or all keys of the mapping."""
        if isinstance(self.given, Dataset):
            return self.given.peers_of(split, by_group)
        return _ring_of(tuple(sorted({*self.given, own})))

    def read(self, key: str) -> tuple[str, Any, Labels]:
        """One partner. Raises `ArrayError` for what is neither (image, labels) nor a picture."""
        found = self.given[key]
        if isinstance(found, SourceSample):
            return key, found.image, found.labels
        image, labels = (*found, None)[:2] if isinstance(found, (tuple, list)) and 1 <= len(found) <= 2 else (found, None)
        return key, given_picture(image, f"partners[{key!r}]"), _labels(labels, f"partners[{key!r}]")


@lru_cache(maxsize=4)
def _ring_of(keys: tuple[str, ...]) -> PartnerRing:
    return PartnerRing.alone(keys)


def one_picture(pipeline: Pipeline, image: NDArray[np.uint8], labels: Labels | None, key: str, split: str, partners: Sequence[Any], group: str,
                ring: PartnerRing | None = None) -> Pictures:  # fmt: skip
    """A picture with its partners as a dataset. ring: of partners that are read when they are drawn: `NotRead` names one that is not among
    `partners` yet. Raises `ArrayError` for what can't be right.
    """
    if not isinstance(key, str):
        raise ArrayError(f"key: a name, not {key!r:.60}")
    if split not in SPLITS:
        raise ArrayError(f"split: {split!r:.60} is none of {', '.join(map(repr, SPLITS))}")
    given = [(key, image, _labels(labels, "labels")), *_partners(partners, key)]
    values = list(dict.fromkeys(each for _, _, labels in given for each in _class_values(labels)))
    places = {value: place for place, value in enumerate(values)}
    own = given[0][2].skeleton
    points = keypoints_each(labels for _, _, labels in given)
    skeleton = own if own.names else numbered_points(points)
    entries, maps = [], {}
    for name, picture, labels in given:
        size = Size(picture.shape[1], picture.shape[0])
        objects = labels.objects(name, size, places, "labels" if name == key else f"partner {name}", points)
        levels = labels.label_map
        plain = levels is not None and levels.ndim == 2 and levels.dtype == np.uint8 and labels.void == VOID
        if levels is not None and plain:
            maps[name] = levels
        entries.append(Entry(name, split, size, objects, group=group if name == key else "", classes=labels.image_classes,
                             label_map=name if plain else ""))  # fmt: skip
    made = Pictures(key, [str(value) for value in values], entries, ArrayFiles(key, {name: each for name, each, _ in given}, maps), skeleton)
    made.values, made.pipeline, made.ring = values, pipeline, ring
    if ring is not None:
        made.entries = _ReadEntries(made.entries)
    if not skeleton.names:
        made.__dict__["swap"] = NO_PAIRS
    if any(labels.mirror_classes for _, _, labels in given):
        made.mirror_classes = merged_pairs(labels.mirror_classes for _, _, labels in given)
    return made


def array_renderer(pipeline: Pipeline, pictures: Pictures) -> ArrayRenderer:
    """A renderer for the picture."""
    return ArrayRenderer(pictures, pipeline, PictureCache(CACHE_BYTES))


def _labels(labels: Any, name: str) -> Labels:
    if labels is None:
        return NO_LABELS
    if not isinstance(labels, Labels):
        raise ArrayError(f"{name}: expected Labels, not {type(labels).__name__}; write Labels(boxes=…, classes=…)")
    return labels


def _class_values(labels: Labels) -> list[Any]:
    own = labels.classes.tolist() if isinstance(labels.classes, np.ndarray) else labels.classes or []
    return own or [""] * bool(len(labels))


def _partners(partners: Sequence[Any], key: str) -> list[tuple[str, NDArray[np.uint8], Labels]]:
    """Partners as (key, image, labels); those given without a key are named by their place."""
    found = []
    for place, partner in enumerate(partners, 1):
        name, *rest = partner if isinstance(partner, (tuple, list)) and partner and isinstance(partner[0], str) else (f"{key}/partner {place}", *(
            partner if isinstance(partner, (tuple, list)) else (partner,)))  # fmt: skip
        if not 1 <= len(rest) <= 2:
            raise ArrayError(f"partners[{place - 1}]: expected (image, labels) or (key, image, labels)")
        found.append((name, given_picture(rest[0], f"partners[{place - 1}]"), _labels(rest[1] if len(rest) > 1 else None, f"partners[{place - 1}]")))
    if len({name for name, _, _ in found} | {key}) <= len(found):
        raise ArrayError("partners: their keys must differ from each other and from the picture's own")
    return found
