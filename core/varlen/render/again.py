"""A variant's geometry done to another array: a depth map, a second camera, a heat map, a 16-bit or multi-band picture."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.array_checks import in_color
from varlen.errors import ArrayError
from varlen.kernels.warp_bands import Bands, as_bands, nearest_places, settled, shrunk_bands, warp_bands
from varlen.labels.occlusion import object_opacity
from varlen.labels.propagate import pasted_labels
from varlen.model.geometry import Size
from varlen.pipeline.plan import Mixed, Pasted, Patched, Plan, Resample, Tiled
from varlen.render.renderer import Renderer
from varlen.render.source_pictures import after_shrinking, smaller_size, stretch


def carried(renderer: Renderer, plan: Plan, arrays: Mapping[str, Any], fill: float = 0, nearest: bool = False) -> NDArray[Any]:
    """What a plan's geometry makes of arrays of the pictures' sizes: (H, W) or (H, W, C) of their own type.

    arrays: by the keys of the picture and its partners; fill: what becomes of pixels that no source pixel reaches; nearest: values are
    moved as they are, else interpolated. Color, noise and covered areas do not touch them.
    Raises `ArrayError` for an array of another size, a missing partner, or a `fill` that the type can't hold.
    """
    own = arrays[plan.image]
    checked = {key: _checked(renderer, key, array, own) for key, array in arrays.items()}
    flat = own.ndim == 2
    _check_fill(fill, own.dtype)
    if (
        own.dtype == np.uint8
        and not nearest
        and plan.base is None
        and not any(isinstance(stage, Patched) for stage in plan.stages)
        and checked[plan.image].shape[2] in (1, 3)
    ):
        # The very loops that pictures go through.
        found = renderer.moved_pixels(plan, in_color(checked[plan.image]), int(fill))[:, :, : checked[plan.image].shape[2]]
    elif nearest:
        found = _Moved(renderer, checked, np.asarray(fill).astype(own.dtype)).through(plan)
    else:
        found = settled(_Interpolated(renderer, {key: as_bands(array) for key, array in checked.items()}, np.float64(fill)).through(plan), own.dtype)
    return np.array(found[:, :, 0] if flat else found, order="C")


def _checked(renderer: Renderer, key: str, array: Any, like: Any) -> NDArray[Any]:
    size = renderer.dataset.entries[key].size
    if not isinstance(array, np.ndarray) or array.ndim not in (2, 3) or array.dtype.kind not in "biuf":
        found = f"{array.dtype} {array.shape}" if isinstance(array, np.ndarray) else type(array).__name__
        raise ArrayError(f"again: expected an array (H, W) or (H, W, C) of numbers, not {found}")
    if array.shape[:2] != (size.height, size.width):
        there, here = f"{size.width}×{size.height} px", f"{array.shape[1]}×{array.shape[0]} px"
        first = array.ndim == 3 and array.shape[1:] == (size.height, size.width)
        advice = "; its channels are first: write array.transpose(1, 2, 0)" if first else "; resize it to the picture's size first"
        raise ArrayError(f"again: the array is {here}, the picture that was rendered {there}{advice}")
    if array.dtype != like.dtype or array.shape[2:] != like.shape[2:]:
        raise ArrayError(f"again: partners must be {like.dtype} with as many bands, not {array.dtype} {array.shape}")
    return array.reshape(*array.shape[:2], -1)


def _check_fill(fill: float, dtype: np.dtype[Any]) -> None:
    limits = np.iinfo(dtype) if dtype.kind in "iu" else None
    if limits is not None and not (float(fill).is_integer() and limits.min <= fill <= limits.max):
        raise ArrayError(f"again: fill {fill} is not what {dtype} holds, {limits.min} … {limits.max}")
    if dtype.kind == "b" and fill not in (0, 1):
        raise ArrayError(f"again: fill {fill} is neither False nor True")


class _Moved:
    """Arrays through a plan, values as they are."""

    def __init__(self, renderer: Renderer, arrays: Mapping[str, NDArray[Any]], fill: Any) -> None:
        self.renderer, self.arrays, self.fill = renderer, arrays, fill

    def through(self, plan: Plan) -> NDArray[Any]:
        """The array after a plan, (H, W, C)."""
        found = self._base(plan)
        for stage in plan.stages:
            match stage:
                case Resample():
                    found = self.resampled(stage, found)
                case Patched(patches=patches):
                    found = found.copy()
                    for patch in patches:
                        x0, y0, x1, y1 = patch.rect
                        part = found[y0:y1, x0:x1].copy()
                        for inner in patch.plan.stages:
                            part = self.resampled(inner, part) if isinstance(inner, Resample) else part
                        found[y0:y1, x0:x1] = part
        return found

    def _base(self, plan: Plan) -> NDArray[Any]:
        match plan.base:
            case Tiled(tiles=tiles, size=size):
                canvas = self.blank(size, self.through(tiles[0]))
                for tile in tiles:
                    x0, y0, x1, y1 = tile.last_window()
                    canvas[y0:y1, x0:x1] = self.through(tile)[y0:y1, x0:x1]
                return canvas
            case Mixed(own=own, partner=partner, weight=weight):
                return self.mixed(self.through(own), self.through(partner), weight)
            case Pasted(own=own, objects=objects):
                found = self.through(own).copy()
                for each in objects:
                    guest = pasted_labels(each, self.renderer.dataset, self.renderer.pipeline.labels)
                    if guest is not None:
                        opacity, left, top = object_opacity(guest.objects, each.plan.last_window())
                        part = (slice(top, top + opacity.shape[0]), slice(left, left + opacity.shape[1]))
                        found[part] = np.where(opacity[:, :, None] > 127, self.through(each.plan)[part], found[part])
                return found
            case None:
                if plan.image not in self.arrays:
                    raise ArrayError("again: the variant is made of several pictures; give their arrays as again(array, partners=[…])")
                return self.arrays[plan.image]

    def blank(self, size: Size, like: NDArray[Any]) -> NDArray[Any]:
        """An array in which no source pixel is."""
        return np.full((size.height, size.width, like.shape[2]), self.fill, like.dtype)

    def mixed(self, own: NDArray[Any], partner: NDArray[Any], weight: float) -> NDArray[Any]:
        """Two values in one place can't be said: the stronger picture's stand."""
        return own if weight >= 0.5 else partner

    def resampled(self, run: Resample, source: NDArray[Any]) -> NDArray[Any]:
        """The array after one resample."""
        places = nearest_places(source.shape[0], source.shape[1], run.bends, run.matrix, (run.size.height, run.size.width), run.target, run.edges)
        found = source.reshape(-1, source.shape[2])[places]
        found[places < 0] = self.fill
        return found


class _Interpolated(_Moved):
    """Arrays through a plan, interpolated as float64."""

    def mixed(self, own: Bands, partner: Bands, weight: float) -> Bands:
        """Both, as strongly as the picture shows them."""
        return own * weight + partner * (1.0 - weight)

    def resampled(self, run: Resample, source: Bands) -> Bands:
        """As pictures are: made smaller first where the move shrinks them, then interpolated."""
        if run.lossless:
            return super().resampled(run, source)
        out = self.blank(run.size, source)
        before, bends, matrix = Size(source.shape[1], source.shape[0]), run.bends, run.matrix
        size = smaller_size(before, stretch(run))
        if size is not None:
            source = shrunk_bands(source, *size)
            bends, matrix = after_shrinking(run, before, size)
        warp_bands(source, bends, matrix, out, run.target, run.edges, float(self.fill))
        return out
