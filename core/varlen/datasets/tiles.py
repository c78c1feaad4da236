"""Large pictures as windows: each window is an image of its own, with the objects that are in it.

Windows lie on a grid, overlap by a given amount, and the last of a row or column ends at the picture's border. All windows
of a picture form a group, so that none of them is in another split. An object is kept in a window by the rule that pipelines
begin with: a quarter of it, and 3 px.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from pathlib import PurePosixPath

import numpy as np

from varlen.datasets.entry import Entry
from varlen.datasets.formats.base import ListedImage, Reading, ReadsLabels, size_of
from varlen.datasets.prepared_files import Window
from varlen.datasets.sources import SourceFiles
from varlen.errors import DatasetError, ReadProblems
from varlen.kernels.label_transforms import ShapeArrays, transform_shapes
from varlen.model.geometry import IDENTITY, Size
from varlen.model.objects import Objects, Outlines
from varlen.shapes.polygons import clipped

KEEP_SHARE, KEEP_SIDE_PX = 0.25, 3.0
#: More windows than this are a mistake in the size of tiles.
MOST_WINDOWS = 2_000_000


def tiled(reading: Reading, files: SourceFiles, tile: tuple[int, int], overlap: int) -> tuple[Reading, dict[str, Window]]:
    """A reading whose larger pictures come as windows, and where each window is; smaller pictures stay as they are."""
    listed: list[ListedImage] = []
    windows: dict[str, Window] = {}
    for image in reading.listed:
        try:
            size = size_of(files, image.key)
        except DatasetError as error:
            reading.problems.note("damaged-file", str(error))
            continue
        if size.width <= tile[0] and size.height <= tile[1]:
            listed.append(ListedImage(image.key, (image, None)))
            continue
        for left, top in _corners(size, tile, overlap):
            name = window_name(image.key, left, top)
            windows[name] = Window(image.key, left, top, min(tile[0], size.width), min(tile[1], size.height))
            listed.append(ListedImage(name, (image, windows[name])))
            if len(windows) > MOST_WINDOWS:
                raise DatasetError(f"{files.label}: tiles of {tile[0]}×{tile[1]} px would be more than {MOST_WINDOWS}")
    read = _ReadWindow(reading.read)
    # A label map is cut like its picture; its windows are found from the picture's.
    return replace(reading, listed=iter(listed), read=read, count=len(listed)), windows


def window_name(path: str, left: int, top: int) -> str:
    """What a window is called: its picture's path and its place in it."""
    return f"{PurePosixPath(path).with_suffix('').as_posix()}_x{left}_y{top}.bmp"


def _corners(size: Size, tile: tuple[int, int], overlap: int) -> Iterator[tuple[int, int]]:
    for top in _starts(size.height, tile[1], overlap):
        for left in _starts(size.width, tile[0], overlap):
            yield left, top


def _starts(length: int, tile: int, overlap: int) -> list[int]:
    if length <= tile:
        return [0]
    return [*range(0, length - tile, tile - overlap), length - tile]


@dataclass(slots=True)
class _ReadWindow:
    """Reads a window's labels; a picture's windows follow one another, so its own labels are kept until the next."""

    read: ReadsLabels
    held: tuple[str, Entry] | None = field(default=None, compare=False)

    def __call__(self, image: ListedImage, problems: ReadProblems) -> Entry:
        source, window = image.body
        if window is None:
            return self.read(source, problems)
        if self.held is None or self.held[0] != source.key:
            self.held = source.key, self.read(source, problems)
        entry = self.held[1]
        objects, cut, gone = within(entry.objects, window)
        if cut or gone:
            problems.remark("tile-clipped", f"{image.key}: {cut} objects cut at the window's border, {gone} left out")
        label_map = f"{entry.label_map}\x1f{window.left},{window.top},{window.width},{window.height}" if entry.label_map else ""
        return replace(entry, key=image.key, size=Size(window.width, window.height), objects=objects, group=entry.group or source.key,
                       label_map=label_map)  # fmt: skip


def within(objects: Objects, window: Window) -> tuple[Objects, int, int]:
    """The objects inside a window, in its coordinates; how many were cut, and how many of those that reach into it left out."""
    if len(objects) == 0:
        return objects, 0, 0
    moved = objects.shifted(-window.left, -window.top)
    size = Size(window.width, window.height)
    shapes = ShapeArrays.of(moved, moved.outlines, False)
    found = transform_shapes(shapes, np.array([IDENTITY]), np.array([size.rect]))
    share, boxes, crossing = found.share[0], found.boxes[0], found.crossing[0]
    masks = list(moved.masks)
    for place, mask in enumerate(masks):
        if mask is not None:
            masks[place] = left = mask.within(size)
            share[place] = int(left.pixels.sum()) / max(int(mask.pixels.sum()), 1) if left is not None else 0.0
            boxes[place] = left.box if left is not None else 0.0
    whole = share >= 1.0 - 1e-9
    small = (boxes[:, 2:] - boxes[:, :2]).min(axis=1) < KEEP_SIDE_PX
    kept = (share > 0.0) & (whole | (((share >= KEEP_SHARE) | objects.crowd) & ~small))
    polygons = list(moved.polygons)
    cut = np.flatnonzero(crossing & kept).tolist()
    for place, polygon in zip(cut, clipped([polygons[place] or () for place in cut], size.rect), strict=True):
        polygons[place] = polygon
    keypoints = moved.keypoints.copy()
    inside = (keypoints[..., 0] >= 0) & (keypoints[..., 1] >= 0) & (keypoints[..., 0] < size.width) & (keypoints[..., 1] < size.height)
    keypoints[~inside] = 0.0
    moved = moved.replace(boxes=boxes, outlines=Outlines.of(polygons), masks=tuple(masks), keypoints=keypoints)
    return moved.take(np.flatnonzero(kept).tolist()), int((kept & ~whole).sum()), int(((share > 0) & ~kept).sum())
