"""Pascal VOC: an XML file for each picture, lists of pictures for the splits, label PNGs.

Conventions of the format: boxes are whole numbers of pixels counted from 1, both ends included,
so pixel column c of ours is c + 1 there and a box x_min … x_max covers x_min − 1 … x_max here.
Written boxes are rounded to whole pixels. `ImageSets/Main/<split>.txt` lists the pictures of a
split (trainval is not needed beside train and val). `SegmentationObject/*.png` holds the n-th
object's pixels as level n, `SegmentationClass/*.png` the n-th class as level n; 255 is unknown.

Read and written: name, bndbox, difficult, truncated, occluded, pose and other plain fields of an
object; objects' masks; label maps.
"""

from __future__ import annotations

import io
import re
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Any
from xml.sax.saxutils import escape

import numpy as np
import orjson
from defusedxml import ElementTree
from defusedxml.common import DefusedXmlException
from numpy.typing import NDArray
from PIL import Image

from varlen.datasets.dataset import Dataset
from varlen.datasets.entry import Entry
from varlen.datasets.formats.base import (
    EncodedLabels,
    FileNames,
    ImageLabels,
    ListedImage,
    Reading,
    ScalesPixels,
    Writer,
    WrittenImage,
    is_plain,
    no_objects,
    paint_objects,
    size_of,
)
from varlen.datasets.formats.tree import Signs, Tree, nearest, plain_path, spread, stem_of
from varlen.datasets.image_files import decode_levels
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.sources import SourceFiles
from varlen.datasets.splits import SPLIT_WORDS, default_splits, split_from_path, unlisted_said
from varlen.errors import DatasetError, ReadProblems
from varlen.model.geometry import Size
from varlen.model.objects import Mask, make_objects

NAME = "voc"
#: How labels are read, for people.
CONVENTION = "boxes read as corners in pixels, counted from 1, both ends included"
LARGEST_XML = 16 << 20
MOST_SIDE = 100_000
_WRITTEN_SPLITS = {"validation": "val"}


def signs(tree: Tree) -> Signs:
    """Whether there are XML files of annotations; damaged ones that bear pictures' names count too."""
    paths = tree.ending(".xml")
    if not paths:
        return Signs(0.0, [], "XML files with <annotation>, one for each picture")
    found: list[str] = []
    odd: list[str] = []
    for path in spread(paths):
        whole = b"<annotation" in tree.head(path)
        (found if whole or stem_of(path) in tree.by_stem else odd).append(path)
    good = [path for path in found if b"<annotation" in tree.head(path)]
    return Signs(0.95 if good else 0.4 if found else 0.0, found[:5], "XML files with <annotation>, one for each picture", odd[:3])


def read(tree: Tree, problems: ReadProblems, options: ImportOptions) -> Reading:
    """All XML files, and pictures without one as background. Raises `DatasetError` with file and place."""
    files = tree.files
    photographs = {stem: kept for stem, paths in tree.by_stem.items() if (kept := [path for path in paths if not _is_label_map(path)])}
    # Classes and splits depend on all files together, so each file is scanned once before it is read.
    keys: dict[str, str] = {}
    broken: set[str] = set()
    seen: set[str] = set()
    for path in tree.ending(".xml"):
        try:
            root = _parsed(files, path)
        except DatasetError as error:
            problems.note("bad-label", str(error))
            broken.update(photographs.get(stem_of(path), ()))
            continue
        if root.tag != "annotation":
            continue
        seen.update(_text(item, "name") for item in root.findall("object"))
        key = _picture_of(path, root, photographs)
        if key is None:
            problems.note("missing-file", f"{path}: there is no picture for it ({_text(root, 'filename') or 'no filename in it'})")
        elif key in keys:
            problems.note("bad-label", f"{path}: {key} has its labels in {keys[key]} already")
        else:
            keys[key] = path
    if not keys:
        raise DatasetError(problems.noted[0][1] if problems.noted else f"{files.label}: no XML files with annotations")
    bare = [path for paths in photographs.values() for path in paths if path not in keys and path not in broken]
    if bare:
        problems.remark("background", f"{len(bare)} pictures have no XML file and are read as background, such as {bare[0]}")
    splits, drawn = _splits(tree, [*keys, *bare], problems)
    names = _class_names(files) or sorted(seen - {""})

    maps = [path for path in tree.pictures if _is_label_map(path)]
    listed = (ListedImage(key, (keys.get(key), splits[key])) for key in (*keys, *bare))
    lists = [path for path in tree.ending(".txt") if "imagesets/" in path.lower()]
    return Reading(tuple(names), listed, _Read(files, tuple(names)), len(keys) + len(bare), problems, map_classes=("background", *names),
                   drawn=drawn, pictures=lambda: (*keys, *bare), labels=lambda: (*keys.values(), *maps, *lists))  # fmt: skip


def _is_label_map(path: str) -> bool:
    return any(part.lower().startswith("segmentation") for part in path.split("/")[:-1])


def _text(element: Any, place: str) -> str:
    return (element.findtext(place) or "").strip()


@dataclass(frozen=True, slots=True)
class _Read:
    files: SourceFiles
    names: tuple[str, ...]

    def __call__(self, image: ListedImage, problems: ReadProblems) -> Entry:
        path, split = image.body
        if path is None:
            stem = PurePosixPath(image.key).stem
            return Entry(image.key, split, size_of(self.files, image.key), no_objects(image.key), label_map=_map_of(self.files, stem))
        return _read_one(self.files, path, image.key, split, self.names, problems)


def _parsed(files: SourceFiles, path: str) -> Any:
    data = files.read(path)
    if len(data) > LARGEST_XML:
        raise DatasetError(f"{path}: {len(data)} bytes are too many for an annotation")
    try:
        return ElementTree.fromstring(data)
    except DefusedXmlException:
        raise DatasetError(f"{path}: holds entities or a document type, refused") from None
    except (ElementTree.ParseError, ValueError, RecursionError, LookupError, MemoryError) as error:
        raise DatasetError(f"{path}: not XML ({error})") from None


def _picture_of(path: str, root: Any, by_stem: dict[str, list[str]]) -> str | None:
    name = plain_path(_text(root, "filename"))
    return nearest(path, by_stem.get(stem_of(path)) or by_stem.get(stem_of(name)) or ())


def _read_one(files: SourceFiles, path: str, key: str, split: str, names: tuple[str, ...], problems: ReadProblems) -> Entry:
    root = _parsed(files, path)
    try:
        width, height = (int(float(_text(root, f"size/{side}") or 0)) for side in ("width", "height"))
    except (ValueError, OverflowError):
        raise DatasetError(f"{path}: size must hold a width and a height") from None
    if max(width, height) > MOST_SIDE:
        raise DatasetError(f"{path}: a picture of {width}×{height} px is too large")
    size = Size(width, height) if min(width, height) > 0 else size_of(files, key)
    places = {name: place for place, name in enumerate(names)}
    items = []
    for number, element in enumerate(root.findall("object"), 1):
        try:
            item = _read_object(path, number, element)
        except DatasetError as error:
            problems.note("bad-label", str(error))
            continue
        if item["name"] in places:
            items.append(item)
        else:
            problems.note("unknown-class", f"{path}: class {item['name']!r} is not in the list of classes")
    stem = PurePosixPath(path).stem
    objects = make_objects(
        [str(n + 1) for n in range(len(items))], key, [places[item["name"]] for item in items], [item["box"] for item in items],
        [None] * len(items), _masks(files, stem, size, len(items)), [[]] * len(items), [False] * len(items), [item["fields"] for item in items],
    )  # fmt: skip
    extra = {"voc": {"folder": root.findtext("folder") or "", "source": {child.tag: child.text or "" for child in root.findall("source/*")}}}
    return Entry(key, split, size, objects, extra, label_map=_map_of(files, stem))


def _map_of(files: SourceFiles, stem: str) -> str:
    levels = f"SegmentationClass/{stem}.png"
    return levels if files.has(levels) else ""


def _read_object(path: str, number: int, item: Any) -> dict[str, Any]:
    name = _text(item, "name")
    if not name:
        raise DatasetError(f"{path}: object {number} has no name")
    try:
        x0, y0, x1, y1 = (float(_text(item, f"bndbox/{side}")) for side in ("xmin", "ymin", "xmax", "ymax"))
    except ValueError:
        raise DatasetError(f"{path}: object {number} ({name}): bndbox must hold xmin, ymin, xmax and ymax") from None
    if not all(abs(value) < 1e9 for value in (x0, y0, x1, y1)) or x1 < x0 or y1 < y0:
        raise DatasetError(f"{path}: object {number} ({name}): bndbox {x0:g} {y0:g} {x1:g} {y1:g} is not from low to high")
    fields = {child.tag: (child.text or "").strip() for child in item if child.tag not in ("name", "bndbox") and len(child) == 0}
    numbered = {tag: int(text) if text.isdecimal() and len(text) < 16 else text for tag, text in fields.items()}
    return {"name": name, "box": [x0 - 1, y0 - 1, x1, y1], "fields": numbered}


def _splits(tree: Tree, keys: list[str], problems: ReadProblems) -> tuple[dict[str, str], bool]:
    """From the lists of pictures, else from folders, else drawn; and whether any were drawn."""
    found: dict[str, str] = {}
    listed = {PurePosixPath(key).stem: key for key in keys}
    for kind in ("Layout", "Segmentation", "Main"):
        for path in [path for path in tree.ending(".txt") if f"imagesets/{kind.lower()}/" in f"/{path.lower()}"]:
            split = SPLIT_WORDS.get(PurePosixPath(path).stem.lower())
            if split is None:
                continue  # trainval, or a list for one class
            for line in tree.files.read(path).decode("utf-8-sig", "replace").splitlines():
                name = line.strip()
                # Lists of one class say after each name whether it is there.
                key = listed.get(name) or listed.get(name.rsplit(maxsplit=1)[0] if name else "")
                if key is not None:
                    found[key] = split
    missing = [key for key in keys if key not in found]
    drawn = default_splits({"": missing}) if missing and not found and not any(split_from_path(key) for key in missing) else {}
    unlisted = [key for key in missing if found and not split_from_path(key)]
    if unlisted:
        problems.remark("unlisted", unlisted_said(unlisted))
    for key in missing:
        found[key] = split_from_path(key) or drawn.get(key, "train")
    return found, bool(drawn)


def _class_names(files: SourceFiles) -> list[str]:
    """From `classes.txt`, one a line, where there is one."""
    if "classes.txt" not in files.paths:
        return []
    return [line.strip() for line in files.read("classes.txt").decode("utf-8-sig", "replace").splitlines() if line.strip()]


def _masks(files: SourceFiles, stem: str, size: Size, count: int) -> list[Mask | None]:
    path = f"SegmentationObject/{stem}.png"
    if not files.has(path):
        return [None] * count
    levels = decode_levels(files.read(path), path)
    if levels.shape != (size.height, size.width):
        raise DatasetError(f"{path}: {levels.shape[1]}×{levels.shape[0]} px, its picture {size.width}×{size.height} px")
    return [Mask.tight((levels == n + 1).astype(np.uint8)) for n in range(count)]


class VocWriter(Writer):
    """Writes JPEGImages, Annotations, ImageSets and, where objects have shapes or there are label maps, label PNGs."""

    spreads = False
    name = NAME
    title = "Pascal VOC"
    layout = "One XML file per picture in `Annotations/`, lists of the splits in `ImageSets/Main/`."
    holds = frozenset(
        (
            "boxes",
            "masks",
            "polygons",
            "label_maps",
            "attributes",
        )
    )
    label_maps = True

    def __init__(self, dataset: Dataset, figures: ScalesPixels | None = None) -> None:
        super().__init__(dataset, figures)
        # All pictures share one folder: a name that is in several splits gets the split before it.
        self.shared = FileNames(dataset).in_many_splits()

    def picture_path(self, split: str, name: str, suffix: str, labels: ImageLabels) -> str:
        shared = name in self.shared or re.sub(r"_v\d+$", "", name) in self.shared
        return f"JPEGImages/{split}_{name}{suffix}" if shared else f"JPEGImages/{name}{suffix}"

    def encode_labels(self, file: str, labels: ImageLabels) -> EncodedLabels:
        stem = PurePosixPath(file).stem
        objects = labels.objects
        files = {f"Annotations/{stem}.xml": self._xml(file, labels).encode()}
        if self.contents.outlines or self.contents.masks:
            files[f"SegmentationObject/{stem}.png"] = indexed_png(paint_objects(objects, labels.size, [min(n + 1, 254) for n in range(len(objects))]))
        levels = labels.label_map
        if levels is None and (self.contents.outlines or self.contents.masks):
            levels = paint_objects(objects, labels.size, [min(n + 1, 254) for n in objects.classes.tolist()])
        if levels is not None:
            files[f"SegmentationClass/{stem}.png"] = indexed_png(levels)
        return EncodedLabels(orjson.dumps({"stem": stem}), [], files)

    def _xml(self, file: str, labels: ImageLabels) -> str:
        objects = labels.objects
        lines = ["<annotation>", "  <folder>JPEGImages</folder>", f"  <filename>{escape(PurePosixPath(file).name)}</filename>"]
        lines += [f"  <size><width>{labels.size.width}</width><height>{labels.size.height}</height><depth>3</depth></size>"]
        lines += [f"  <segmented>{int(bool(self.contents.masks or self.contents.outlines))}</segmented>"]
        for place, (x0, y0, x1, y1) in enumerate(objects.boxes.tolist()):
            left, top = round(x0), round(y0)
            right, bottom = _end(left, round(x1), labels.size.width), _end(top, round(y1), labels.size.height)
            left, top = min(left, right - 2), min(top, bottom - 2)
            fields = {"pose": "Unspecified", "truncated": 0, "difficult": 0, **objects.attributes[place]}
            if objects.share[place] < 0.999:
                fields["truncated"] = 1
            lines += ["  <object>", f"    <name>{escape(self.dataset.classes[objects.classes[place]])}</name>"]
            lines += [f"    <{tag}>{escape(str(int(value) if isinstance(value, bool) else value))}</{tag}>"
                      for tag, value in sorted(fields.items()) if is_plain(tag, value) and tag not in ("name", "bndbox")]  # fmt: skip
            lines += [f"    <bndbox><xmin>{left + 1}</xmin><ymin>{top + 1}</ymin><xmax>{right}</xmax><ymax>{bottom}</ymax></bndbox>", "  </object>"]
        return "\n".join([*lines, "</annotation>", ""])

    def write_label_files(self, folder: Path, splits: list[str], images: Iterable[WrittenImage]) -> list[str]:
        lists = folder / "ImageSets" / "Main"
        lists.mkdir(parents=True, exist_ok=True)
        names = {split: f"ImageSets/Main/{_WRITTEN_SPLITS.get(split, split)}.txt" for split in splits}
        streams = {split: (folder / name).open("w", encoding="utf-8", newline="\n") for split, name in names.items()}
        for image in images:
            streams[image.split].write(PurePosixPath(image.file).stem + "\n")
        for stream in streams.values():
            stream.close()
        names_of = self.dataset.classes or self.dataset.map_classes[1:]  # of label maps alone the level 0 is background
        (folder / "classes.txt").write_text("".join(f"{name}\n" for name in names_of), "utf-8")
        return [*names.values(), "classes.txt"]

    def losses(self) -> list[str]:
        odd = [f"{count} objects have {name!r}, which is no plain number or text" for name, count in sorted(self.contents.unplain.items())]
        return odd + self.contents.lost(
            keypoints="keypoints", crowd="marks of regions of many", classes="images have image-level classes",
            outlines="outlines, written as pixels (where objects overlap, the later one's)",
        )  # fmt: skip


def _end(start: int, end: int, side: int) -> int:
    """The end of a box that is two whole pixels long at least, within the picture: both its ends are counted, and no reader sees a length of 0."""
    return min(max(end, start + 2), max(side, 2))


def indexed_png(levels: NDArray[np.uint8]) -> bytes:
    """A PNG whose stored numbers are the levels; its palette tells neighbours apart."""
    image = Image.frombytes("P", (levels.shape[1], levels.shape[0]), np.ascontiguousarray(levels).tobytes())
    image.putpalette(PALETTE)
    stream = io.BytesIO()
    image.save(stream, "PNG", compress_level=4)
    return stream.getvalue()


def _palette() -> bytes:
    """Black for 0, light gray for unknown, else well spread hues."""
    colors = [(0, 0, 0)] + [((n * 97) % 200 + 40, (n * 57) % 200 + 40, (n * 151) % 200 + 40) for n in range(1, 255)] + [(224, 224, 224)]
    return bytes(level for color in colors for level in color)


PALETTE = _palette()
