"""One picture, and its partners if it needs any, as a dataset that a renderer can work on."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.array_checks import checked_image
from varlen.datasets.array_labels import Labels, keypoints_each
from varlen.datasets.dataset import ArrayDataset, ArrayFiles, merged_pairs
from varlen.datasets.entry import Entry
from varlen.datasets.level_rules import VOID
from varlen.datasets.skeleton import numbered_points
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

    def peers_of(self, split: str, by_group: bool = False) -> PartnerRing:
        """The pictures that partners are drawn from. Raises `RenderError` where none was given."""
        if len(self.entries) == 1:
            takers = [step.id for step in self.pipeline.all_steps() if step.purpose == "combine" and step.kind != "junction"]
            steps = ", ".join(takers) or "a step"
            raise RenderError(f"{steps}: takes in other pictures, which are wanted as render(…, partners=[(image, labels), …])")
        return super().peers_of(split, by_group)


class ArrayRenderer(OwnRenderer):
    """A renderer whose pictures are arrays: nothing is decoded or hashed."""

    def source(self, image: str) -> NDArray[np.uint8]:
        return self.dataset.pixels(image)


def one_picture(pipeline: Pipeline, image: Any, labels: Labels | None, key: str, split: str, partners: Sequence[Any], group: str) -> Pictures:
    """A picture with its partners as a dataset. Raises `ArrayError` for what can't be right."""
    if not isinstance(key, str) or not isinstance(split, str):
        raise ArrayError(f"key and split are names, not {key!r} and {split!r}")
    given = [(key, checked_image(image), _labels(labels, "labels")), *_partners(partners, key)]
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
    made.values = values
    made.pipeline = pipeline
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
        found.append((name, checked_image(rest[0], f"partners[{place - 1}]"), _labels(rest[1] if len(rest) > 1 else None, f"partners[{place - 1}]")))
    if len({name for name, _, _ in found} | {key}) <= len(found):
        raise ArrayError("partners: their keys must differ from each other and from the picture's own")
    return found
