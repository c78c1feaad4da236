"""How many variants each training image gets: as many as all others, or as an exact total, a count per class or a balance asks.

An exact total is shared out evenly, what is left over by draws from the seed. For a balance every image gets a weight such
that all classes come out as alike as whole images allow: iterative proportional fitting (Deming and Stephan, 1940), each
image's weight being changed by the classes it shows. For a count per class, the rarest class first, images that show it get
more variants until the class has enough.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.dataset import Dataset
from varlen.draws import Stream
from varlen.errors import EditionError

if TYPE_CHECKING:
    from varlen.editions.export_spec import ExportSpec

Counts = NDArray[np.int32]
TRAINING = "train"
#: Rounds of fitting; later ones change weights by less than a percent.
ROUNDS = 60
#: No image gets more variants than this.
MOST_VARIANTS = 1000


class Allotment:
    """The variants of every image of an order, by split and by the image's place in it."""

    def __init__(self, dataset: Dataset, spec: ExportSpec, seed: int) -> None:
        """Raises `EditionError` for an order that can't be filled."""
        self.spec = spec
        by_split = dataset.by_split()
        self.keys: dict[str, Sequence[str]] = {split: by_split[split] for split in spec.written(dataset.splits())}
        self.images: Counts | None = None
        if spec.allots and TRAINING not in self.keys:
            raise EditionError(f"{dataset.name}: no training images, so there is nothing to make an exact number of")
        if TRAINING in self.keys and spec.allots:
            self.images = allotted(dataset, spec, self.keys[TRAINING], seed)

    def variants(self, split: str, place: int) -> range:
        """The numbers of an image's variants; 0 is the original."""
        if split == TRAINING and self.images is not None:
            first = 0 if self.spec.originals else 1
            return range(first, first + int(self.images[place]))
        numbers = self.spec.variants_for(split)
        return range(numbers[0], numbers[-1] + 1) if numbers else range(0)

    def count(self, split: str, start: int, end: int) -> int:
        """How many images are written for the images of a split at places start … end − 1."""
        if split == TRAINING and self.images is not None:
            return int(self.images[start:end].sum())
        return (end - start) * len(self.spec.variants_for(split))

    def counts(self) -> dict[str, int]:
        """How many images are written per split."""
        return {split: self.count(split, 0, len(keys)) for split, keys in self.keys.items()}


def allotted(dataset: Dataset, spec: ExportSpec, keys: Sequence[str], seed: int) -> Counts:
    """How many images are written of each training image, its original among them where originals are."""
    count = len(keys)
    least = 1 if spec.originals else 0
    if spec.per_class:
        found = _per_class(dataset, spec.per_class, keys, seed, least)
    else:
        total = spec.total or count * (spec.variants + least)
        labels = _labels(dataset, keys) if spec.balance else None
        weights = np.ones(count) if labels is None else balancing_weights(labels)
        found = shared(total, weights, seed, keys, least if total >= count * least else 0, labels)
    if int(found.max(initial=0)) > MOST_VARIANTS + least:
        most = f"an image would get {int(found.max())} variants, more than {MOST_VARIANTS}"
        raise EditionError(f"{most}: order fewer, or bring in more images of rare classes")
    return found


def shared(total: int, weights: NDArray[np.float64], seed: int, keys: Sequence[str], least: int, labels: NDArray[np.float64] | None = None) -> Counts:
    """`total` in whole numbers in proportion to weights, none below `least`.

    Remainders go by size, and equal ones by a draw; with `labels`, each goes to an image of the class that has least so far.
    """
    counts = np.full(len(keys), least, np.int64)
    rest = total - int(counts.sum())
    wanted = np.maximum(weights / weights.sum() * total - least, 0.0)
    if wanted.sum() > 0:
        wanted *= rest / wanted.sum()
    counts += np.floor(wanted + 1e-9).astype(np.int64)
    left = total - int(counts.sum())
    if left > 0:
        fractions = np.round(wanted - np.floor(wanted + 1e-9), 9)
        lots = np.array([Stream(seed, key, 0, "allotment").word() for key in keys], np.uint64)
        order = np.lexsort((lots, -fractions))
        chosen = order[:left] if labels is None else _evening(order, left, counts, labels)
        counts[chosen] += 1
    return counts.astype(np.int32)


def _evening(order: NDArray[np.int64], left: int, counts: NDArray[np.int64], labels: NDArray[np.float64]) -> list[int]:
    """Of the images in `order`, `left` of them such that the class with fewest labels gets the next each time."""
    sums = counts @ labels
    waiting = [[place for place in order.tolist()[::-1] if labels[place, column]] for column in range(labels.shape[1])]
    chosen: dict[int, None] = {}
    for _ in range(left):
        for column in np.argsort(sums, kind="stable").tolist():
            while waiting[column] and waiting[column][-1] in chosen:
                waiting[column].pop()
            if waiting[column]:
                place = waiting[column].pop()
                chosen[place] = None
                sums = sums + labels[place]
                break
        else:
            place = next(place for place in order.tolist() if place not in chosen)
            chosen[place] = None
    return list(chosen)


def _labels(dataset: Dataset, keys: Sequence[str]) -> NDArray[np.float64]:
    """How many labels of each class each image has, (images, classes); classes without any are left out. Raises `EditionError`."""
    places = {name: place for place, name in enumerate(dataset.classes)}
    found = np.zeros((len(keys), len(places)))
    for place, key in enumerate(keys):
        for name in dataset.entries[key].labels(dataset.classes):
            found[place, places[name]] += 1.0
    found = found[:, found.any(axis=0)]
    if not found.size:
        raise EditionError(f"{dataset.name}: no training image shows a class, so there is nothing to balance")
    return found


def balancing_weights(labels: NDArray[np.float64]) -> NDArray[np.float64]:
    """A weight for each image such that all classes get nearly the same sum; images without labels keep the mean weight."""
    weights = np.ones(len(labels))
    sizes = labels.sum(axis=1)
    shown = sizes > 0
    shares = labels[shown] / sizes[shown, None]
    for _ in range(ROUNDS):
        sums = weights[shown] @ labels[shown]
        factors = np.log(sums.mean() / np.maximum(sums, 1e-12))
        weights[shown] *= np.exp(shares @ factors)
        weights[shown] *= shown.sum() / weights[shown].sum()
    return weights


def _per_class(dataset: Dataset, wanted: int, keys: Sequence[str], seed: int, least: int) -> Counts:
    labels = _labels(dataset, keys)
    counts = np.full(len(keys), least, np.int64)
    for column in np.argsort(labels.sum(axis=0), kind="stable").tolist():
        members = np.flatnonzero(labels[:, column])
        have = float(counts @ labels[:, column])
        order = sorted(members.tolist(), key=lambda place: (Stream(seed, keys[place], 0, "allotment").word(), place))
        each = float(labels[members, column].sum())
        rounds = max(int((wanted - have) // each), 0)
        counts[members] += rounds
        have += rounds * each
        for place in order:
            if have >= wanted:
                break
            counts[place] += 1
            have += float(labels[place, column])
    return counts.astype(np.int32)
