"""Mask pairs: a picture in `images/` and its label map of the same name in `masks/`.

    images/train/a.jpg  masks/train/a.png      or      images/a.jpg  masks/a.png

A label map is an indexed or gray picture; the level of a pixel is the number of its class, 255 means
unknown. `classes.json` names the levels: {"0": {"name": "background", "color": [0, 0, 0]}, …}. An RGB
mask is read by these colors, or by those of a table of text; without one each color is a class. Masks of
0 and 255 alone, or of one bit, are background and one class, whose name is asked for. Folders may be called
img and label and the like, in any case, and a label map may have an ending such as _mask.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

import numpy as np
import orjson

from varlen.datasets.entry import Entry
from varlen.datasets.formats.base import (
    EncodedLabels,
    ImageLabels,
    ListedImage,
    Reading,
    Writer,
    WrittenImage,
    no_objects,
    paint_objects,
    parse_json,
    size_of,
)
from varlen.datasets.formats.tree import Doubt, Signs, Tree, spread
from varlen.datasets.formats.voc import PALETTE, indexed_png
from varlen.datasets.image_files import opened
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.level_rules import VOID, MapLevels, is_deep, levels_of, packed, rgb_of
from varlen.datasets.sources import SourceFiles
from varlen.datasets.splits import default_splits, split_from_path
from varlen.errors import DatasetError, NeedsAnswer, ReadProblems

NAME = "mask-pairs"
#: How labels are read, for people.
CONVENTION = "each pixel's level is its class"
TABLE = "classes.json"


#: Folders of pictures, and of the label maps that go with them, in lower case.
_OF_PICTURES = frozenset(("images", "image", "imgs", "img", "pictures", "photos", "jpegimages", "input", "inputs", "frames"))
_OF_MASKS = frozenset(("masks", "mask", "labels", "label", "annotations", "annotation", "gt", "ground_truth", "groundtruth", "seg", "segmentation",
                       "segmentations", "targets", "target", "segmentationclass"))  # fmt: skip
#: What a label map's name may have more than its picture's.
_ENDINGS = ("_mask", "-mask", "_masks", "_seg", "-seg", "_segmentation", "_label", "-label", "_labels", "_gt", "-gt", "_labelids", "_target")
#: Label maps that are looked into for what their levels mean.
SAMPLED = 60
MOST_COLORS = 254
#: How far compression moves black and white at most.
NEAR = 60


def signs(tree: Tree) -> Signs:
    """Whether pictures have label maps: of their name in a folder for these, or of their name and an ending."""
    pairs = pairs_of(tree)
    masks = set(pairs.values())
    bare = [path for path in tree.pictures if path not in pairs and path not in masks]
    share = 2 * len(pairs) / max(len(tree.pictures), 1)
    missing = "for each picture a label map of its name, in a folder masks/ beside images/ or with the ending _mask"
    return Signs(0.6 + 0.25 * share if pairs and share > 0.2 else 0.0, [f"{a} with {b}" for a, b in list(pairs.items())[:3]], missing, bare[:3])


def pairs_of(tree: Tree) -> dict[str, str]:
    """Every picture that has a label map, and where that is."""
    by_place: dict[str, str] = {path.rpartition(".")[0].lower(): path for path in tree.pictures}
    found: dict[str, str] = {}
    for place, path in by_place.items():
        parts = place.split("/")
        mask = _in_folder(parts, by_place) or _with_ending(parts, by_place)
        if mask is not None and mask != path:
            found[path] = mask
    masks = set(found.values())
    return {path: mask for path, mask in found.items() if path not in masks}


def _in_folder(parts: list[str], by_place: dict[str, str]) -> str | None:
    """The label map at the same place in a folder of label maps; its name may have an ending too."""
    for number in range(len(parts) - 2, -1, -1):
        if parts[number] not in _OF_PICTURES:
            continue
        for folder in _OF_MASKS:
            place = "/".join((*parts[:number], folder, *parts[number + 1 :]))
            for ending in ("", *_ENDINGS):
                if place + ending in by_place:
                    return by_place[place + ending]
    return None


def _with_ending(parts: list[str], by_place: dict[str, str]) -> str | None:
    place = "/".join(parts)
    for ending in _ENDINGS:
        if place + ending in by_place:
            return by_place[place + ending]
    # Beside the pictures, in a folder of its own.
    for folder in _OF_MASKS:
        beside = "/".join((*parts[:-1], folder, parts[-1]))
        if parts[-1:] and beside in by_place:
            return by_place[beside]
    return None


def read(tree: Tree, problems: ReadProblems, options: ImportOptions) -> Reading:
    """The pairs. Raises `DatasetError` naming a picture without mask, and `NeedsAnswer` where a class has no name."""
    files = tree.files
    masks = pairs_of(tree)
    if not masks:
        raise DatasetError(f"{files.label}: no pictures with label maps")
    used = set(masks.values())
    for path in tree.pictures:
        if path not in masks and path not in used:
            wanted = "picture" if _OF_MASKS & set(path.lower().split("/")[:-1]) else "mask"
            problems.note("missing-file", f"{path}: there is no {wanted} of the same name")
    named = {path: split for path in masks if (split := split_from_path(path))}
    drawn = {} if named else default_splits({"": sorted(masks)})
    levels, names, doubt = _meaning(tree, list(masks.values()), problems, options)

    listed = (ListedImage(path, (named.get(path) or drawn.get(path, "train"), mask)) for path, mask in sorted(masks.items()))
    maps = frozenset(masks.values()) if levels.kind else frozenset[str]()
    return Reading((), listed, _Read(files), len(masks), problems, map_classes=tuple(names), drawn=bool(drawn), map_levels=levels, maps=maps,
                   pictures=masks.keys, labels=masks.values, doubt=doubt)  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Read:
    files: SourceFiles

    def __call__(self, image: ListedImage, problems: ReadProblems) -> Entry:
        split, mask = image.body
        return Entry(image.key, split, size_of(self.files, image.key), no_objects(image.key), label_map=mask)


def _meaning(tree: Tree, masks: list[str], problems: ReadProblems, options: ImportOptions) -> tuple[MapLevels, list[str], Doubt | None]:
    """How label maps are read, the names of their levels, from a table or from the maps themselves, and what is to be asked."""
    table = _table(tree)
    levels, colors, modes = _looked_at(tree.files, spread(masks, SAMPLED), problems)
    if "JPEG" in modes:
        return _lossy(tree, table, levels, options)
    if "RGB" in modes:
        return *_by_colors(table, colors, problems), None
    as_they_are = MapLevels("" if modes <= {"P", "L", "1"} else "gray")
    if table:
        highest = max(table, default=-1)
        return as_they_are, [table[level][0] if level in table else f"level {level}" for level in range(highest + 1)], None
    numbered = max(levels, default=0) > VOID
    binary = levels <= {0, 255} or (modes == {"1"}) or numbered or (levels <= {0, 1} and bool(options.mask_class))
    if binary and levels != {0}:
        if not options.mask_class:
            if numbered:
                number = f"numbers up to {max(levels):,}, more than there are classes: they number objects"
                raise _unnamed(tree, f"hold {number}. Say how they are read with --reading FILE, or name the one class of them all")
            raise _unnamed(tree, "hold background and one class, whose name is not said; name it")
        if numbered:
            problems.remark("numbered-masks", f"the masks number objects, up to {max(levels):,}: all of them are read as {options.mask_class}")
        return MapLevels("numbers" if numbered else "binary"), ["background", options.mask_class], None
    highest = max((level for level in levels if level < VOID), default=0)
    names = [f"level {level}" for level in range(highest + 1)]
    found = sorted(level for level in levels if level < VOID)
    problems.remark("unnamed-level", f"no table names the levels of the label maps: {', '.join(f'{level}' for level in found[:12])}")
    return as_they_are, names, None


def _unnamed(tree: Tree, said: str) -> NeedsAnswer:
    return NeedsAnswer("mask_class", f"{tree.files.label}: its masks {said} with --mask-class NAME")


def _lossy(tree: Tree, table: dict[int, Named], levels: set[int], options: ImportOptions) -> tuple[MapLevels, list[str], Doubt | None]:
    """Label maps that were written as JPEG, which changes levels: of black and white the nearer one is meant, other levels are asked about."""
    if all(min(level, 255 - level) <= NEAR for level in levels) and not table:
        if not options.mask_class:
            raise _unnamed(tree, "are JPEG and hold nearly black and nearly white: background and one class, whose name is not said; name it")
        return MapLevels("halves"), ["background", options.mask_class], None
    names = [table[level][0] if level in table else f"level {level}" for level in range(min(max(levels, default=0), VOID - 1) + 1)]
    said = f"its label maps are JPEG, which changed their levels: {len(levels)} of them are found, and each would be a class; write them as PNG"
    return MapLevels("gray"), names, Doubt(said, {NAME: "every level is meant as it stands"})


def _by_colors(table: dict[int, Named], colors: list[int], problems: ReadProblems) -> tuple[MapLevels, list[str]]:
    """RGB label maps by their colors; without a table every color is a class of its own."""
    if table:
        highest = max(table)
        rows = [table.get(level, (f"level {level}", None)) for level in range(highest + 1)]
        return MapLevels("colors", tuple(color or (-1, -1, -1) for _, color in rows)), [name for name, _ in rows]
    if len(colors) > MOST_COLORS:
        raise DatasetError(f"the label maps hold {len(colors)} colors and no table names them; more than {MOST_COLORS} are no classes")
    problems.remark("unnamed-level", f"no table names the colors of the label maps: {', '.join(f'#{color:06x}' for color in colors[:12])}")
    return MapLevels("colors", tuple((c >> 16, c >> 8 & 255, c & 255) for c in colors)), [f"#{color:06x}" for color in colors]


def _looked_at(files: SourceFiles, masks: list[str], problems: ReadProblems) -> tuple[set[int], list[int], set[str]]:
    """Levels, colors and modes of some label maps: RGB ones with equal bands count as gray."""
    levels: set[int] = set()
    colors: set[int] = set()
    modes: set[str] = set()
    for path in masks:
        try:
            data = files.read(path)
            image = opened(data, path)
            if image.format == "JPEG":
                modes.add("JPEG")
            if image.mode in ("P", "L", "1") or is_deep(image):
                modes.add(image.mode)
                levels.update(np.unique(levels_of(data, path)).tolist())
                continue
            pixels = rgb_of(data, path)
            gray = bool((pixels[:, :, 0] == pixels[:, :, 1]).all() and (pixels[:, :, 1] == pixels[:, :, 2]).all())
            modes.add("gray" if gray else "RGB")
            levels.update(np.unique(pixels[:, :, 0]).tolist())
            colors.update(np.unique(packed(pixels)).tolist())
        except DatasetError as error:
            problems.note("damaged-file", str(error))
    return levels, sorted(colors), modes


#: A class's name and, where a table gives one, its color.
Named = tuple[str, "tuple[int, int, int] | None"]


def _table(tree: Tree) -> dict[int, Named]:
    """Names and colors of levels from `classes.json`, else from a table of names with three numbers each; empty without any."""
    path = next((path for path in tree.paths if path.rsplit("/", 1)[-1].lower() == TABLE), None)
    if path is not None:
        return _json_table(tree.files, path)
    for path in tree.ending(".csv", ".txt", ".tsv"):
        rows = _color_rows(tree.head(path).decode("utf-8-sig", "replace"))
        if rows:
            tree.files.read(path)  # is of the labels
            return dict(enumerate(rows))
    return {}


def _json_table(files: SourceFiles, path: str) -> dict[int, Named]:
    table = parse_json(files, path)
    if not isinstance(table, dict) or not all(key.isdecimal() and int(key[:6]) < VOID and isinstance(value, dict) for key, value in table.items()):
        raise DatasetError(f"{path}: expected numbers from 0 to 254, each with a name")
    found: dict[int, Named] = {}
    for key, value in table.items():
        color = value.get("color")
        good = isinstance(color, list) and len(color) == 3 and all(isinstance(part, int) and 0 <= part <= 255 for part in color)
        found[int(key)] = str(value.get("name", f"level {key}")), (color[0], color[1], color[2]) if good else None
    return found


def _color_rows(text: str) -> list[Named]:
    """Lines of a name and three levels, in either order; nothing where any line but the first is something else."""
    found: list[Named] = []
    for number, line in enumerate(line for line in text.splitlines() if line.strip()):
        words = [word.strip().strip('"') for word in re.split(r"[,;\t]" if re.search(r"[,;\t]", line) else r"\s+", line.strip())]
        numbers = [int(word) for word in words if word.isdecimal() and int(word[:4]) <= 255]
        names = [word for word in words if not word.isdecimal()]
        if len(numbers) >= 3 and len(names) == 1:
            found.append((names[0], (numbers[-3], numbers[-2], numbers[-1])))
        elif number > 0:
            return []
    return found


class MasksWriter(Writer):
    """Writes `images/`, `masks/` and the table of classes. Objects with shapes become classes of pixels."""

    name = NAME
    title = "mask pairs"
    layout = "Pictures in `images/`, for each a picture in `masks/` whose levels are classes."
    holds = frozenset(
        (
            "masks",
            "polygons",
            "label_maps",
        )
    )
    label_maps = True

    def encode_labels(self, file: str, labels: ImageLabels) -> EncodedLabels:
        levels = labels.label_map
        if levels is None:
            levels = paint_objects(labels.objects, labels.size, [min(n + 1, VOID - 1) for n in labels.objects.classes.tolist()])
        elif self.dataset.read_as.get("mask_class"):
            # What came as background and one class goes out as just these: 0 and 1.
            levels = np.where(levels == VOID, 0, levels).astype(np.uint8)
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
