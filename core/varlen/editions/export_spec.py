"""The order for an edition: variants, originals, format, image coding and splits."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, fields, replace
from typing import Any, NotRequired, TypedDict

from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import WRITERS, default_format
from varlen.datasets.image_files import SUFFIX, ImageType
from varlen.errors import EditionError

TRAINING = "train"
MOST_VARIANTS = 1000
MOST_IMAGES = 100_000_000


class SpecFields(TypedDict):
    """An `ExportSpec` as plain values; what is rarely chosen only where it is."""

    variants: int
    originals: bool
    format: str
    image: ImageType
    quality: int
    splits: NotRequired[list[str]]
    split_variants: NotRequired[dict[str, int]]
    total: NotRequired[int]
    per_class: NotRequired[int]
    balance: NotRequired[bool]


@dataclass(frozen=True, slots=True)
class ExportSpec:
    """What to write: variants of each training image, originals or not, how images are coded, and which splits.

    splits: names of splits, none for all there are; split_variants: how many variants each image of another
    split gets beside its original, as pairs or a mapping. These go through the steps for every split alone. format: "" for
    the dataset's own (see `for_dataset`).

    total: exactly so many training images, originals among them where they are written, in place of `variants`; per_class: so
    many of each class at least, by more variants of images that show rare ones, likewise; balance: the same number of images,
    shared out so that classes come out alike.
    """

    variants: int = 3
    originals: bool = True
    format: str = ""
    image: ImageType = "jpeg"
    quality: int = 90
    splits: tuple[str, ...] = ()
    split_variants: Mapping[str, int] | Iterable[tuple[str, int]] = ()
    total: int = 0
    per_class: int = 0
    balance: bool = False

    def __post_init__(self) -> None:
        object.__setattr__(self, "splits", tuple(sorted(self.splits)))
        object.__setattr__(self, "split_variants", tuple(sorted((split, count) for split, count in dict(self.split_variants).items() if count)))
        for split, count in (("", self.variants), *self._of_splits().items()):
            if not 0 <= count <= MOST_VARIANTS:
                raise EditionError(f"variants{split and ' of '}{split}: {count} is outside 0 … {MOST_VARIANTS}")
        if TRAINING in self._of_splits():
            raise EditionError(f"variants of {TRAINING} are what `variants` says; split_variants is for other splits")
        if self.total and self.per_class:
            raise EditionError("total and per_class exclude each other")
        if self.per_class and self.balance:
            raise EditionError("per_class and balance exclude each other")
        for name, number in (("total", self.total), ("per_class", self.per_class)):
            if not 0 <= number <= MOST_IMAGES:
                raise EditionError(f"{name}: {number} is outside 1 … {MOST_IMAGES}")
        if self.total or self.per_class:
            object.__setattr__(self, "variants", 0)
        if self.format and self.format not in WRITERS:
            raise EditionError(f"format: there is no {self.format!r} to write; known are {', '.join(WRITERS)}")
        if self.image not in SUFFIX:
            raise EditionError(f"image: {self.image!r} is not one of {', '.join(SUFFIX)}")
        if not 1 <= self.quality <= 100:
            raise EditionError(f"quality: {self.quality} is outside 1 … 100")

    @property
    def allots(self) -> bool:
        """Whether training images get different numbers of variants."""
        return bool(self.total or self.per_class or self.balance)

    def for_dataset(self, dataset: Dataset) -> ExportSpec:
        """The same with the format that the dataset has itself, where none was chosen. Raises `EditionError` for a split it does not have."""
        there = dataset.splits()
        for name, splits in (("splits", self.splits), ("split_variants", self._of_splits())):
            for split in splits:
                if split not in there:
                    raise EditionError(f"{name}: there is no split {split!r}; there are {', '.join(there)}")
        return self if self.format else replace(self, format=default_format(dataset))

    def variants_for(self, split: str) -> list[int]:
        """Which variants an image of a split gets; 0 is the original. Where training images differ (`allots`), one of them."""
        if self.splits and split not in self.splits:
            return []
        if split != TRAINING:
            return list(range(self._of_splits().get(split, 0) + 1))
        if self.total or self.per_class:
            return [0 if self.originals else 1]
        return ([0] if self.originals else []) + list(range(1, self.variants + 1))

    def _of_splits(self) -> dict[str, int]:
        return dict(self.split_variants)

    def written(self, splits: Iterable[str]) -> list[str]:
        """Those of the splits that are written."""
        return [split for split in splits if self.variants_for(split)]

    def counts(self, images: dict[str, int]) -> dict[str, int]:
        """The exact number of output images per split that is written, where all training images get the same (not `allots`)."""
        return {split: images[split] * len(self.variants_for(split)) for split in self.written(images)}

    def to_json(self) -> SpecFields:
        """As plain values; fields that are rarely set appear only where they are, so that other orders keep their form."""
        found: SpecFields = {
            "variants": self.variants,
            "originals": self.originals,
            "format": self.format,
            "image": self.image,
            "quality": self.quality,
        }
        if self.splits:
            found["splits"] = list(self.splits)
        if self.split_variants:
            found["split_variants"] = self._of_splits()
        if self.total:
            found["total"] = self.total
        if self.per_class:
            found["per_class"] = self.per_class
        if self.balance:
            found["balance"] = True
        return found

    @staticmethod
    def fields_of(record: Mapping[str, Any]) -> dict[str, Any]:
        """The fields of an order, out of an edition's record or a request."""
        return {name: record[name] for name in SPEC_FIELDS if name in record}


SPEC_FIELDS = tuple(each.name for each in fields(ExportSpec))
