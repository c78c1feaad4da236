"""What is to be asked about a dataset's pictures before it is read: label maps among photographs, levels that fill a part of 16 bits.

Each would otherwise be read without a word, and wrong: a label map as a photograph, 12 bits in 16 as a picture that is nearly black.
"""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np
from PIL import Image

from varlen.datasets.formats.tree import Doubt, Tree, spread
from varlen.datasets.image_files import BROKEN, FORMATS, TIFF_MARKS, bits_of, check_claim, unclear
from varlen.datasets.level_rules import tiff_levels
from varlen.errors import DatasetError

#: Pictures whose headers are looked at, and deep ones that are decoded.
LOOKED, DECODED = 40, 4
#: Of 16 bits, levels that end below are said to be of fewer bits: 14 of them.
FULL = 1 << 14
#: A gray picture with no more levels than this is a label map where photographs have color.
FEW_LEVELS = 24


class Kind(NamedTuple):
    """What a picture's header says of its levels. clear: whether they mean something as they stand."""

    mode: str
    bits: int
    clear: bool


def kinds_of(tree: Tree, pictures: Sequence[str]) -> dict[str, Kind]:
    """The kinds of some of the pictures, by their headers; of the others nothing is read."""
    found: dict[str, Kind] = {}
    for path in spread(pictures, LOOKED):
        try:
            with tree.peek(path) as stream:
                image = Image.open(stream, formats=FORMATS)
                check_claim(path, image.size)
                found[path] = Kind(image.mode, bits_of(image), not unclear(image))
        except (DatasetError, *BROKEN):  # what is damaged is said when it is read
            continue
    return found


def label_maps_among(tree: Tree, kinds: Mapping[str, Kind]) -> str:
    """Why some of the pictures seem to be label maps, "" where none does: palettes, or gray ones of few levels, among others."""
    modes = {path: kind.mode for path, kind in kinds.items()}
    gray = [path for path, mode in modes.items() if mode == "L"]
    maps = [path for path, mode in modes.items() if mode in ("P", "1")]
    if gray and len(gray) + len(maps) < len(modes):
        maps += [path for path in gray if _few_levels(tree, path)]
    if not 0 < len(maps) < len(modes):
        return ""
    many = f"{len(maps)} of the {len(modes)} pictures looked at hold" if len(maps) > 1 else f"one of the {len(modes)} pictures looked at holds"
    return f"{many} few flat levels, as label maps do ({min(maps)})"


def part_of_the_levels(tree: Tree, kinds: Mapping[str, Kind]) -> Doubt | None:
    """What is asked where pictures of 16 bits use a part of their levels; None where none is of 16 bits, or they use them."""
    deep = [path for path, kind in kinds.items() if kind.bits == 16 and kind.clear]
    highest = max((_highest(tree, path) for path in spread(deep, DECODED)), default=0)
    if not 0 < highest < FULL:
        return None
    bits = max(highest.bit_length(), 9)
    return Doubt(f"its 16-bit pictures use levels up to {highest:,} of 65,535, and would be read as nearly black ({highest >> 8} of 255)",
                 {f"0..{(1 << bits) - 1}": f"{bits} bits are meant", "0..65535": "they are meant as dark as that"}, "--levels")  # fmt: skip


def _few_levels(tree: Tree, path: str) -> bool:
    try:
        return bool(len(np.unique(np.asarray(Image.open(io.BytesIO(tree.files.read(path)))))) <= FEW_LEVELS)
    except (DatasetError, *BROKEN):
        return False


def _highest(tree: Tree, path: str) -> int:
    try:
        data = tree.files.read(path)
        return int((tiff_levels(data) if data[:4] in TIFF_MARKS else np.asarray(Image.open(io.BytesIO(data)))).max())
    except (DatasetError, *BROKEN):
        return 0
