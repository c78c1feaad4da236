"""What arrays must be before anything is done with them. Nothing is converted silently: a refusal says what to write instead."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.errors import ArrayError
from varlen.model.geometry import Size

#: Labels that reach further out of their picture than this, px, are refused, or clipped before anything else; less is rounding.
HAIR = 0.05


def checked_image(image: Any, name: str = "image") -> NDArray[np.uint8]:
    """A picture, (H, W, 3) or (H, W, 1) uint8, as it is. Raises `ArrayError` with what to write instead for anything else."""
    if not isinstance(image, np.ndarray):
        found = type(image).__name__
        raise ArrayError(f"{name}: expected a NumPy array (H, W, 3) uint8, not {found}; write np.asarray({name})")
    if image.ndim == 3 and image.shape[0] in (1, 3) and image.shape[2] not in (1, 3):
        raise ArrayError(f"{name}: {_shape(image)} has its channels first; write {name}.transpose(1, 2, 0)")
    if image.ndim == 2:
        raise ArrayError(f"{name}: {_shape(image)} has no channel axis; write {name}[:, :, None] for a gray picture")
    if image.ndim != 3:
        raise ArrayError(f"{name}: expected (H, W, 3) or (H, W, 1), not {_shape(image)}")
    if image.shape[2] == 4:
        raise ArrayError(f"{name}: {_shape(image)} has a fourth channel; write {name}[:, :, :3], and take opacity along with out.again(…)")
    if image.shape[2] not in (1, 3):
        raise ArrayError(f"{name}: {image.shape[2]} bands; render takes 1 or 3, any other number goes through out.again({name})")
    if image.dtype != np.uint8:
        raise ArrayError(f"{name}: {_dtype_advice(image, name)}")
    if 0 in image.shape:
        raise ArrayError(f"{name}: {_shape(image)} holds no pixel")
    return image


def in_color(picture: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """(H, W, 3) of (H, W, 3) or (H, W, 1), a gray level in all three channels; not to be written to."""
    return np.ascontiguousarray(np.broadcast_to(picture, (*picture.shape[:2], 3)))


def _dtype_advice(image: NDArray[Any], name: str) -> str:
    if image.dtype == np.bool_:
        return f"bool; write {name}.astype(np.uint8) * 255"
    if image.dtype.kind == "f":
        top = float(np.nanmax(image)) if image.size else 0.0
        scaled = f"({name} * 255).round().astype(np.uint8)" if top <= 1.0 else f"{name}.round().clip(0, 255).astype(np.uint8)"
        return f"{image.dtype} with levels up to {top:g}; pictures are uint8: write {scaled}"
    if image.dtype == np.uint16:
        return f"uint16; pictures are uint8: write ({name} // 257).astype(np.uint8), or keep 16 bits through out.again({name})"
    return f"{image.dtype}; pictures are uint8 levels of 0-255: write {name}.clip(0, 255).astype(np.uint8)"


def _shape(array: NDArray[Any]) -> str:
    return str(array.shape)


def numbers(value: Any, name: str, last: int, axes: int, hint: str = "") -> NDArray[np.float64]:
    """Numbers for each object: (N, …, `last`) float64 with so many axes. Raises `ArrayError` for anything else."""
    try:
        found = np.asarray(value, np.float64)
    except (TypeError, ValueError):
        raise ArrayError(f"{name}: not an array of numbers{hint}") from None
    if found.size == 0:
        return found.reshape((0,) + ((0,) * (axes - 2)) + (last,))
    if found.ndim != axes or found.shape[-1] != last:
        expected = "(N, K, 3)" if axes == 3 else f"(N, {last})"
        raise ArrayError(f"{name}: expected {expected}, not shape {found.shape}{hint}")
    if not np.isfinite(found).all():
        raise ArrayError(f"{name}: there are values that are no numbers (NaN or infinite)")
    return found


def check_boxes(boxes: NDArray[np.float64]) -> None:
    """Raises `ArrayError` for boxes (N, 4) that end before they begin, and for shares of the picture in place of px."""
    if not len(boxes):
        return
    if ((boxes >= 0.0) & (boxes <= 1.0)).all() and (boxes < 1.0).any() and (boxes > 0.0).any():
        raise ArrayError("boxes: all numbers are within 0 … 1, shares of the picture; write Labels.from_fractions(boxes, image) or "
                         "Labels.from_centre_fractions(boxes, image)")  # fmt: skip
    wrong = np.flatnonzero(inverted(boxes))
    if len(wrong):
        place = int(wrong[0])
        x0, y0, x1, y1 = boxes[place].tolist()
        axis = f"x_max {x1:g} is not right of x_min {x0:g}" if x1 <= x0 else f"y_max {y1:g} is not below y_min {y0:g}"
        raise ArrayError(f"boxes[{place}]: {axis}; boxes are x_min, y_min, x_max, y_max in px: where they are x, y, width, height "
                         "write Labels.from_xywh(boxes)")  # fmt: skip


def inverted(boxes: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Which boxes (N, 4) have no area, or end before they begin."""
    return np.asarray((boxes[:, 2:] <= boxes[:, :2]).any(axis=1), np.bool_)


def check_inside(points: NDArray[np.float64], size: Size, name: str) -> None:
    """Raises `ArrayError` for x, y (N, …, 2) of which any lies outside a picture of `size`."""
    if points.size == 0:
        return
    low, high = points.reshape(len(points), -1, 2).min(axis=1), points.reshape(len(points), -1, 2).max(axis=1)
    wrong = (low < -HAIR).any(axis=1) | (high > np.array(size) + HAIR).any(axis=1)
    if wrong.any():
        place = int(np.argmax(wrong))
        corners = ", ".join(f"{value:g}" for value in (*low[place].tolist(), *high[place].tolist()))
        raise ArrayError(f'{name}[{place}]: {corners} reaches outside the picture of {size.width}×{size.height} px; write Labels(…, outside="clip") '
                         'to cut it there, or outside="keep" to count what is outside as lost')  # fmt: skip


def checked_mask(mask: Any, place: int) -> NDArray[Any] | None:
    """An object's mask as it was given. Raises `ArrayError` for what is none, or shows nothing."""
    if mask is None:
        return None
    found = np.asarray(mask)
    if found.ndim != 2:
        raise ArrayError(f"masks[{place}]: expected (H, W), not shape {found.shape}")
    if found.dtype != np.bool_ and found.dtype != np.uint8:
        raise ArrayError(f"masks[{place}]: {found.dtype}; masks are bool, or uint8 of 0 and 1: write masks > 0.5")
    if found.dtype == np.uint8 and found.size and int(found.max()) > 1:
        raise ArrayError(f"masks[{place}]: a level of {int(found.max())}; masks are bool, or uint8 of 0 and 1: write masks > 127")
    if not found.any():
        raise ArrayError(f"masks[{place}]: no pixel is set; leave this object out")
    return found


def same_length(given: dict[str, int]) -> int:
    """How many objects there are. Raises `ArrayError` when the parts disagree."""
    counts = {name: count for name, count in given.items() if count >= 0}
    if len(set(counts.values())) > 1:
        raise ArrayError("labels disagree on how many objects there are: " + ", ".join(f"{count} {name}" for name, count in counts.items()))
    return next(iter(counts.values()), 0)


def picture_size(size: Any) -> Size:
    """Width and height from a pair, or from the picture itself. Raises `ArrayError` for anything else."""
    if isinstance(size, np.ndarray) and size.ndim in (2, 3):
        return Size(int(size.shape[1]), int(size.shape[0]))
    if isinstance(size, Sequence) and len(size) == 2 and all(isinstance(side, (int, np.integer)) and side > 0 for side in size):
        return Size(int(size[0]), int(size[1]))
    raise ArrayError(f"size: expected the picture itself or (width, height) in px, not {size!r:.60}")
