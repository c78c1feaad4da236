"""The order for an edition: variants, originals, format, image coding and splits."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, fields
from typing import Any, NotRequired, TypedDict

from varlen.datasets.formats import WRITERS
from varlen.datasets.image_files import SUFFIX, ImageType
from varlen.errors import EditionError

TRAINING = "train"
MOST_VARIANTS = 1000


class SpecFields(TypedDict):
    """An `ExportSpec` as plain values; what is rarely chosen only where it is."""

    variants: int
    originals: bool
    format: str
    image: ImageType
    quality: int
    splits: NotRequired[list[str]]
    split_variants: NotRequired[dict[str, int]]


@dataclass(frozen=True, slots=True)
class ExportSpec:
    """What to write: variants of each training image, originals or not, how images are coded, and which splits.

    splits: names of splits, none for all there are; split_variants: how many variants each image of another
    split gets beside its original, as pairs or a mapping. These go through the steps for every split alone.
    """

    variants: int = 3
    originals: bool = True
    format: str = "coco"
    image: ImageType = "jpeg"
    quality: int = 90
    splits: tuple[str, ...] = ()
    split_variants: Mapping[str, int] | Iterable[tuple[str, int]] = ()

    def __post_init__(self) -> None:
        object.__setattr__(self, "splits", tuple(sorted(self.splits)))
        object.__setattr__(self, "split_variants", tuple(sorted((split, count) for split, count in dict(self.split_variants).items() if count)))
        for split, count in (("", self.variants), *self._of_splits().items()):
            if not 0 <= count <= MOST_VARIANTS:
                raise EditionError(f"variants{split and ' of '}{split}: {count} is outside 0 … {MOST_VARIANTS}")
        if TRAINING in self._of_splits():
            raise EditionError(f"variants of {TRAINING} are what `variants` says; split_variants is for other splits")
        if self.format not in WRITERS:
            raise EditionError(f"format: there is no {self.format!r} to write; known are {', '.join(WRITERS)}")
        if self.image not in SUFFIX:
            raise EditionError(f"image: {self.image!r} is not one of {', '.join(SUFFIX)}")
        if not 1 <= self.quality <= 100:
            raise EditionError(f"quality: {self.quality} is outside 1 … 100")

    def variants_for(self, split: str) -> list[int]:
        """Which variants an image of a split gets; 0 is the original."""
        if self.splits and split not in self.splits:
            return []
        if split != TRAINING:
            return list(range(self._of_splits().get(split, 0) + 1))
        return ([0] if self.originals else []) + list(range(1, self.variants + 1))

    def _of_splits(self) -> dict[str, int]:
        return dict(self.split_variants)

    def written(self, splits: Iterable[str]) -> list[str]:
        """Those of the splits that are written."""
        return [split for split in splits if self.variants_for(split)]

    def counts(self, images: dict[str, int]) -> dict[str, int]:
        """The exact number of output images per split, for the splits that are written."""
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
        return found

    @staticmethod
    def fields_of(record: Mapping[str, Any]) -> dict[str, Any]:
        """The fields of an order, out of an edition's record or a request."""
        return {name: record[name] for name in SPEC_FIELDS if name in record}


SPEC_FIELDS = tuple(each.name for each in fields(ExportSpec))
