"""Mask pairs: a picture in `images/` and its label map of the same name in `masks/`.

    images/train/a.jpg  masks/train/a.png      or      images/a.jpg  masks/a.png

A label map is an indexed or gray PNG; the level of a pixel is the number of its class, 255 means
unknown. `classes.json` names the levels: {"0": {"name": "background", "color": [0, 0, 0]}, …}. An RGB
mask is read by these colors.
"""

from __future__ import annotations

import io
import json
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

import orjson
from PIL import Image

from varlen.datasets.entry import Entry
from varlen.datasets.formats.base import (
    EncodedLabels,
    ImageLabels,
    ListedImage,
    Reading,
    Writer,
    WrittenImage,
    hidden,
    no_objects,
    paint_objects,
    parse_json,
    pictures,
    size_of,
)
from varlen.datasets.formats.voc import PALETTE, VOID, indexed_png
from varlen.datasets.sources import SourceFiles
from varlen.datasets.splits import default_splits, split_from_path
from varlen.errors import DatasetError, ReadProblems

NAME = "mask-pairs"
#: How labels are read, for people.
CONVENTION = "each pixel's level is its class"
TABLE = "classes.json"


def recognise(files: SourceFiles) -> bool:
    """Whether there are pictures in `images/` with PNGs of the same names in `masks/`."""
    return any(_mask_of(files, path) for path in pictures(files) if "images" in PurePosixPath(path).parts)


def _mask_of(files: SourceFiles, path: str) -> str | None:
    parts = list(PurePosixPath(path).with_suffix(".png").parts)
    if "images" not in parts[:-1]:
        return None
    parts[parts.index("images")] = "masks"
    mask = "/".join(parts)
    return mask if mask in files.paths else None


def read(files: SourceFiles, problems: ReadProblems) -> Reading:
    """The pairs. Raises `DatasetError` naming a picture without mask or a mask of another size."""
    paths = [path for path in pictures(files) if "images" in PurePosixPath(path).parts and not hidden(path)]
    named = {path: split for path in paths if (split := split_from_path(path))}
    drawn = {} if named else default_splits({"": paths})
    masks: dict[str, str] = {}
    for path in paths:
        mask = _mask_of(files, path)
        if mask is None:
            problems.note("missing-file", f"{path}: there is no mask of the same name in masks/")
        else:
            masks[path] = mask
    if not masks:
        raise DatasetError(f"{files.label}: no pictures in images/")

    listed = (ListedImage(path, (named.get(path) or drawn.get(path, "train"), mask)) for path, mask in masks.items())
    return Reading((), listed, _Read(files), len(masks), problems, map_classes=tuple(_names(files, list(masks.values()))))


@dataclass(frozen=True, slots=True)
class _Read:
    files: SourceFiles

    def __call__(self, image: ListedImage, problems: ReadProblems) -> Entry:
        split, mask = image.body
        return Entry(image.key, split, size_of(self.files, image.key), no_objects(image.key), label_map=mask)


def _names(files: SourceFiles, masks: list[str]) -> list[str]:
    """From the table, else as many as the first masks have levels."""
    if TABLE in files.paths:
        table = parse_json(files, TABLE)
        if not isinstance(table, dict) or not all(key.isdigit() and int(key) < VOID and isinstance(value, dict) for key, value in table.items()):
            raise DatasetError(f"{TABLE}: expected numbers from 0 to 254, each with a name")
        highest = max((int(key) for key in table), default=-1)
        return [str(table.get(str(level), {}).get("name", f"level {level}")) for level in range(highest + 1)]
    highest = 0
    for path in masks[:50]:
        levels = Image.open(io.BytesIO(files.read(path))).getextrema()
        top = levels[1] if isinstance(levels[0], (int, float)) else 0
        highest = max(highest, int(top) if int(top) < VOID else highest)
    return [f"level {level}" for level in range(highest + 1)]


class MasksWriter(Writer):
    """Writes `images/`, `masks/` and the table of classes. Objects with shapes become classes of pixels."""

    name = NAME
    title = "mask pairs"
    layout = "Pictures in `images/`, for each a picture in `masks/` whose levels are classes."
    label_maps = True

    def encode_labels(self, file: str, labels: ImageLabels) -> EncodedLabels:
        levels = labels.label_map
        if levels is None:
            levels = paint_objects(labels.objects, labels.size, [min(n + 1, VOID - 1) for n in labels.objects.classes.tolist()])
        mask = PurePosixPath("masks", *PurePosixPath(file).with_suffix(".png").parts[1:]).as_posix()
        return EncodedLabels(orjson.dumps({}), [], {mask: indexed_png(levels)})

    def write_label_files(self, folder: Path, splits: list[str], images: Iterable[WrittenImage]) -> list[str]:
        super().write_label_files(folder, splits, images)
        names = self.dataset.map_classes or ("background", *self.dataset.classes)
        table = {str(level): {"name": name, "color": list(PALETTE[3 * level : 3 * level + 3])} for level, name in enumerate(names)}
        (folder / TABLE).write_text(json.dumps(table, indent=1, ensure_ascii=False) + "\n", "utf-8")
        return [TABLE]

    def losses(self) -> list[str]:
        if self.contents.label_maps:
            return self.contents.lost(boxes="objects", classes="images have image-level classes")
        shapeless = self.contents.boxes - self.contents.outlines - self.contents.masks
        bare = [f"{shapeless} boxes without a shape"] if shapeless > 0 else []
        return bare + self.contents.lost(
            boxes="objects become classes of pixels, no longer separate from one another",
            keypoints="keypoints",
            classes="images have image-level classes",
        )
