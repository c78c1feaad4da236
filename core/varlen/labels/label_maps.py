"""Label maps: the class of every pixel, taken through a plan by the nearest pixel.

Area that no source pixel reaches, padding and covered areas become `VOID`: nothing is known
about them. Extended, mirrored and wrapped edges carry their classes along.
"""

from __future__ import annotations

from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.resample import moved_view
from varlen.kernels.warp_masks import warp_labels
from varlen.labels.occlusion import object_opacity
from varlen.labels.propagate import LabelledImages, pasted_labels
from varlen.labels.transform import swaps_sides
from varlen.pipeline.plan import Mixed, Painted, Pasted, PastedObject, Patched, Plan, Resample, Tiled
from varlen.pipeline.reading import LabelRules

LabelMap = NDArray[np.uint8]
#: The class of pixels that nothing is known about.
VOID = 255


class MappedImages(LabelledImages, Protocol):
    """What is needed of a dataset."""

    def label_map(self, key: str) -> LabelMap | None:
        """The label map of an image, None where it has none."""

    @property
    def level_swap(self) -> NDArray[np.uint8] | None:
        """For each level the one that a mirror turns it into, (256,); None where there are no such pairs."""


def label_map_of(plan: Plan, images: MappedImages, rules: LabelRules) -> LabelMap | None:
    """The label map of a variant, (H, W) uint8; None where its own picture has none."""
    match plan.base:
        case Tiled(tiles=tiles, size=size):
            levels = np.full((size.height, size.width), VOID, np.uint8)
            found = [_onto(tile, images, rules, levels) for tile in tiles]
            if not found[0]:
                return None
        case Mixed(own=own, partner=partner, weight=weight):
            first, second = label_map_of(own, images, rules), label_map_of(partner, images, rules)
            if first is None:
                return None
            # Two classes in one place can't be said: the stronger picture's stand.
            levels = first if weight >= 0.5 or second is None else second
        case Pasted(own=own, objects=objects):
            below = label_map_of(own, images, rules)
            if below is None:
                return None
            levels = below.copy()
            for each in objects:
                _laid_over(levels, each, images, rules)
        case None:
            source = images.label_map(plan.image)
            if source is None:
                return None
            levels = source
    return _through(plan, levels, images.level_swap)


def _laid_over(levels: LabelMap, pasted: PastedObject, images: MappedImages, rules: LabelRules) -> None:
    """Where an object is laid over the picture, its own picture's classes count."""
    guest = pasted_labels(pasted, images, rules)
    if guest is None:
        return
    opacity, left, top = object_opacity(guest.objects, pasted.plan.last_window())
    height, width = opacity.shape
    part = (slice(top, top + height), slice(left, left + width))
    other = label_map_of(pasted.plan, images, rules)
    levels[part] = np.where(opacity > 127, VOID if other is None else other[part], levels[part])


def _onto(tile: Plan, images: MappedImages, rules: LabelRules, canvas: LabelMap) -> bool:
    """Put a tile's label map where its pixels are; says whether it has one."""
    levels = label_map_of(tile, images, rules)
    if levels is None:
        return False
    x0, y0, x1, y1 = tile.last_window()
    canvas[y0:y1, x0:x1] = levels[y0:y1, x0:x1]
    return True


def _through(plan: Plan, levels: LabelMap, swap: NDArray[np.uint8] | None) -> LabelMap:
    for stage in plan.stages:
        match stage:
            case Resample():
                levels = _resampled(stage, levels)
                if swap is not None and swaps_sides(stage):
                    levels = swap[levels]
            case Painted(cover=cover):
                levels = levels.copy()
                for x0, y0, x1, y1 in cover.areas:
                    levels[y0:y1, x0:x1] = VOID
            case Patched(patches=patches):
                levels = levels.copy()
                for patch in patches:
                    x0, y0, x1, y1 = patch.rect
                    levels[y0:y1, x0:x1] = _through(patch.plan, levels[y0:y1, x0:x1].copy(), swap)
    return levels


def _resampled(run: Resample, levels: LabelMap) -> LabelMap:
    x0, y0, x1, y1 = run.target
    out = np.full((run.size.height, run.size.width), VOID, np.uint8)
    if run.lossless:
        out[y0:y1, x0:x1] = moved_view(levels[:, :, None], run.matrix, run.target)[:, :, 0]
    else:
        warp_labels(levels, run.bends, run.matrix, out, run.target, run.edges, VOID)
    return out
