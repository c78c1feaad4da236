"""A dataset's files as they are to be used: levels by a rule, label maps as numbers of classes, large pictures as windows.

What is made anew is handed out as an uncompressed BMP: its bytes, and so its digest, depend on nothing but its pixels.
"""

from __future__ import annotations

import io
from collections.abc import Mapping
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from varlen.datasets.image_files import TIFF_MARKS, decode, most_in_memory, read_header, tiff_orientation
from varlen.datasets.level_rules import LevelRule, MapLevels, levels_file
from varlen.datasets.sources import SourceFiles


class Window(NamedTuple):
    """A part of a picture: its file, and left, top, width and height in px."""

    path: str
    left: int
    top: int
    width: int
    height: int


class PreparedFiles:
    """The files behind a dataset that is not read just as it lies there.

    maps: paths of the label maps that `map_levels` is for; windows: parts of pictures by the names they are read under.
    """

    def __init__(self, files: SourceFiles, rule: LevelRule, map_levels: MapLevels, maps: frozenset[str], windows: Mapping[str, Window]) -> None:
        self.files, self.rule, self.map_levels, self.maps, self.windows = files, rule, map_levels, maps, windows
        self.label = files.label
        self.name = files.name
        self._held: tuple[str, NDArray[np.uint8]] | None = None

    def __getstate__(self) -> dict[str, Any]:
        return {**self.__dict__, "_held": None}

    def read(self, path: str) -> bytes:
        """One file's content, made anew where it has to be. Raises `DatasetError` naming it."""
        window = self.windows.get(path)
        if window is not None:
            return _bmp(self._window(window))
        if "\x1f" in path:  # a window of a label map: its path and its place
            of, place = path.split("\x1f")
            return levels_file(self._map_window(Window(of, *map(int, place.split(",")))))
        data = self.files.read(path)
        if path in self.maps:
            return levels_file(self.map_levels.read(data, path)) if self.map_levels.kind else data
        if self.rule.kind and self.rule.serves(read_header(data, path)):
            return _bmp(self.rule.decode(data, path))
        return data

    def _window(self, window: Window) -> NDArray[np.uint8]:
        if window.path.lower().endswith((".tif", ".tiff")):
            part = _tiff_window(self.files, window)
            if part is not None:
                return part if part.dtype == np.uint8 and not self.rule.kind else self.rule.apply(part)
        if self._held is None or self._held[0] != window.path:
            data = self.files.read(window.path)
            most = most_in_memory()
            ruled = self.rule.kind and self.rule.serves(read_header(data, window.path, most))
            self._held = window.path, self.rule.decode(data, window.path, most) if ruled else decode(data, window.path, most)
        return self._held[1][window.top : window.top + window.height, window.left : window.left + window.width]

    def _map_window(self, window: Window) -> NDArray[np.uint8]:
        levels = self.map_levels.read(self.files.read(window.path), window.path)
        return np.ascontiguousarray(levels[window.top : window.top + window.height, window.left : window.left + window.width])

    @cached_property
    def paths(self) -> frozenset[str]:
        """Every file there is, windows by their names."""
        return self.files.paths | frozenset(self.windows)

    def has(self, path: str) -> bool:
        """Whether there is such a file or window."""
        return path in self.windows or self.files.has(path)


def _bmp(pixels: NDArray[np.uint8]) -> bytes:
    stream = io.BytesIO()
    Image.fromarray(np.ascontiguousarray(pixels)).save(stream, "BMP")
    return stream.getvalue()


def _tiff_window(files: SourceFiles, window: Window) -> NDArray[Any] | None:
    """A window of a TIFF from those of its strips or tiles that it touches; None where the file does not allow it."""
    import tifffile

    try:
        with files.open(window.path) as stream:
            if not stream.seekable() or stream.read(4) not in TIFF_MARKS:
                return None
            stream.seek(0)
            with tifffile.TiffFile(stream) as file:
                page = file.pages[0]
                if not isinstance(page, tifffile.TiffPage) or page.planarconfig != 1 or page.photometric not in (1, 2) or page.dtype is None:
                    return None
                if tiff_orientation(page) != 1:
                    return None
                bands = page.samplesperpixel
                out = np.zeros((window.height, window.width, bands), page.dtype)
                for index, (offset, count) in enumerate(zip(page.dataoffsets, page.databytecounts, strict=True)):
                    if not _touches(page, index, window):
                        continue
                    stream.seek(offset)
                    segment, place, shape = page.decode(stream.read(count), index)
                    if segment is None:
                        return None
                    _copy(segment[0], place[-3:-1], shape[-3:-1], window, out)
    except Exception:  # compression or layout it does not know: the whole picture is decoded instead
        return None
    return out if bands in (3, 1) and page.dtype != np.uint8 else _as_rgb(out)


def _as_rgb(levels: NDArray[Any]) -> NDArray[Any]:
    return levels[:, :, :3] if levels.shape[2] >= 3 else np.repeat(levels[:, :, :1], 3, axis=2)


def _touches(page: Any, index: int, window: Window) -> bool:
    """Whether a strip or tile overlaps the window."""
    if page.is_tiled:
        across = -(-page.imagewidth // page.tilewidth)
        top, left = index // across * page.tilelength, index % across * page.tilewidth
        height, width = page.tilelength, page.tilewidth
    else:
        top, left, height, width = index * page.rowsperstrip, 0, page.rowsperstrip, page.imagewidth
    return bool(top < window.top + window.height and top + height > window.top and left < window.left + window.width and left + width > window.left)


def _copy(segment: NDArray[Any], place: tuple[int, int], shape: tuple[int, int], window: Window, out: NDArray[Any]) -> None:
    top, left = place
    y0, x0 = max(top, window.top), max(left, window.left)
    y1, x1 = min(top + shape[0], window.top + window.height), min(left + shape[1], window.left + window.width)
    if y0 < y1 and x0 < x1:
        out[y0 - window.top : y1 - window.top, x0 - window.left : x1 - window.left] = segment[y0 - top : y1 - top, x0 - left : x1 - left]
