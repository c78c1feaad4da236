"""Labels of pictures that are stored on their side, for files whose labels were drawn on the stored pixels.

Orientation is EXIF's, 1 to 8: what has to be done to the stored pixels to see them upright
(Exif 2.32, section 4.6.4 A). `size` is that of the stored picture, W × H px.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.entry import Entry
from varlen.model.geometry import Size
from varlen.model.objects import Mask

_POINTS: dict[int, Callable[[NDArray[np.float64], NDArray[np.float64], int, int], tuple[NDArray[np.float64], NDArray[np.float64]]]] = {
    2: lambda x, y, w, h: (w - x, y),
    3: lambda x, y, w, h: (w - x, h - y),
    4: lambda x, y, w, h: (x, h - y),
    5: lambda x, y, w, h: (y, x),
    6: lambda x, y, w, h: (h - y, x),
    7: lambda x, y, w, h: (h - y, w - x),
    8: lambda x, y, w, h: (y, w - x),
}
_RASTERS: dict[int, Callable[[NDArray[np.uint8]], NDArray[np.uint8]]] = {
    2: lambda levels: levels[:, ::-1],
    3: lambda levels: levels[::-1, ::-1],
    4: lambda levels: levels[::-1],
    5: lambda levels: levels.T,
    6: lambda levels: levels.T[:, ::-1],
    7: lambda levels: levels[::-1, ::-1].T,
    8: lambda levels: levels.T[::-1],
}
#: Orientations that are mirror images.
_MIRRORED = (2, 4, 5, 7)


def upright_points(points: NDArray[np.float64], orientation: int, size: Size) -> NDArray[np.float64]:
    """Points (…, 2) of the stored picture in the upright one."""
    if orientation == 1:
        return points
    return np.stack(_POINTS[orientation](points[..., 0], points[..., 1], size.width, size.height), axis=-1)


def upright_raster(levels: NDArray[np.uint8], orientation: int) -> NDArray[np.uint8]:
    """Stored levels (H, W), upright."""
    return levels if orientation == 1 else np.ascontiguousarray(_RASTERS[orientation](levels))


def upright_entry(entry: Entry, orientation: int) -> Entry:
    """An image whose labels lie on the stored pixels, with labels that lie on the upright ones."""
    if orientation == 1:
        return entry
    objects, size = entry.objects, entry.size
    corners = upright_points(objects.boxes.reshape(-1, 2, 2), orientation, size)
    keypoints = objects.keypoints.copy()
    keypoints[..., :2] = np.where(keypoints[..., 2:] > 0, upright_points(keypoints[..., :2], orientation, size), 0.0)
    objects = objects.replace(
        boxes=np.concatenate([corners.min(axis=1), corners.max(axis=1)], axis=1),
        outlines=objects.outlines.with_points(upright_points(objects.outlines.points, orientation, size)),
        masks=tuple(mask and _upright_mask(mask, orientation, size) for mask in objects.masks),
        keypoints=keypoints,
        oriented=objects.oriented.with_corners(upright_points(objects.oriented.corners, orientation, size)),
    )
    if orientation in _MIRRORED:
        objects = objects.replace(oriented=objects.oriented.mirrored())
    return replace(entry, objects=objects, size=Size(size.height, size.width) if orientation >= 5 else size)


def _upright_mask(mask: Mask, orientation: int, size: Size) -> Mask:
    height, width = mask.pixels.shape
    frame = np.array([[mask.left, mask.top], [mask.left + width, mask.top + height]], np.float64)
    left, top = upright_points(frame, orientation, size).min(axis=0)
    return Mask(int(left), int(top), upright_raster(mask.pixels, orientation))
