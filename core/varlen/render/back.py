"""From a variant back to its source pictures: points, boxes, outlines and whole arrays."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.errors import ArrayError
from varlen.kernels.bends import backward
from varlen.labels.transform import swaps_sides
from varlen.model.geometry import Rect, Size
from varlen.pipeline.plan import Mixed, Pasted, Patched, Plan, Resample, Tiled, Window

Points = NDArray[np.float64]
#: A point this far out of a picture is still on its border, px.
HAIR = 1e-6
#: Sides of a box are followed back at so many points each: lines may come back bent.
ALONG_A_SIDE = 9


class FoundArray(np.ndarray[Any, np.dtype[np.float64]]):
    """What came back, with `keys`: for each entry the key of the picture that it lies in, empty for what lies in blank area."""

    keys: list[str]

    def __array_finalize__(self, other: Any) -> None:
        """Parts and copies keep no keys of their own."""
        self.keys = getattr(other, "keys", [])


class FoundList(list[Any]):
    """The same for outlines, one after another."""

    keys: list[str]


def back(plan: Plan, values: Any, size: Callable[[str], Size], swap: NDArray[np.int64]) -> FoundArray | FoundList:
    """See `varlen.arrays.rendered.Rendered.back`. size: of a picture, by its key; swap: mirror partners of keypoints."""
    if isinstance(values, (list, tuple)) and len(values) and all(np.ndim(each) == 2 and np.shape(each)[1] == 2 for each in values):
        return _outlines(plan, [np.asarray(each, np.float64) for each in values], size)
    try:
        array = np.asarray(values)
        given = array.astype(np.float64)
    except (TypeError, ValueError):
        raise ArrayError("back: expected points (N, 2), boxes (N, 4), keypoints (N, K, 3), a list of outlines or an array of the variant's size, "
                         f"not {type(values).__name__}") from None  # fmt: skip
    if given.shape[:2] == (plan.size.height, plan.size.width) and given.ndim in (2, 3):
        return array_back(plan, array, plan.image, size)
    if given.ndim == 2 and given.shape[1] == 2:
        points, keys = points_back(plan, given, size)
        return _found(points, keys)
    if given.ndim == 2 and given.shape[1] == 4:
        return _boxes(plan, given, size)
    if given.ndim == 3 and given.shape[2] in (2, 3):
        return _keypoints(plan, given, size, swap)
    if given.size == 0:
        return _found(given, [])
    raise ArrayError(f"back: shape {given.shape} is neither points (N, 2), boxes (N, 4), keypoints (N, K, 3) nor an array of the variant's size, "
                     f"({plan.size.height}, {plan.size.width})")  # fmt: skip


def points_back(plan: Plan, points: Points, size: Callable[[str], Size]) -> tuple[Points, list[str]]:
    """Where points (N, 2) of a variant lie in its source pictures, px, and the keys of these; NaN and no key for what lies in blank area."""
    found, keys = _followed(plan, points, size)
    found[[not key for key in keys]] = np.nan
    return found, keys


def _keypoints(plan: Plan, given: Points, size: Callable[[str], Size], swap: NDArray[np.int64]) -> FoundArray:
    """Keypoints (N, K, 2 or 3); of objects that the draw shows mirrored, left and right change places again."""
    count = given.shape[1]
    points, keys = points_back(plan, given[:, :, :2].reshape(-1, 2), size)
    moved = given.copy()
    moved[:, :, :2] = points.reshape(*given.shape[:2], 2)
    own = [next((key for key in keys[place * count : (place + 1) * count] if key), "") for place in range(len(given))]
    if len(swap) == count:
        turned = _mirrored(plan)
        mirrored = [turned.get(key, False) for key in own]
        moved[mirrored] = moved[mirrored][:, swap]
    return _found(moved, own)


def _mirrored(plan: Plan) -> dict[str, bool]:
    """For each picture in a variant whether it is shown mirrored."""
    match plan.base:
        case Tiled(tiles=tiles):
            found = {key: turned for tile in reversed(tiles) for key, turned in _mirrored(tile).items()}
        case Mixed(own=own, partner=partner):
            found = _mirrored(partner) | _mirrored(own)
        case Pasted(own=own):
            found = _mirrored(own)
        case None:
            found = {plan.image: False}
    turns = sum(swaps_sides(stage) for stage in plan.stages if isinstance(stage, Resample)) % 2 == 1
    return {key: turned != turns for key, turned in found.items()}


def _followed(plan: Plan, points: Points, size: Callable[[str], Size]) -> tuple[Points, list[str]]:
    """The same, with a place also for what lies in blank area: where it would be if the picture went on."""
    found = points.astype(np.float64)
    shown = np.ones(len(found), np.bool_)
    for stage in reversed(plan.stages):
        match stage:
            case Resample():
                found, inside = _undone(stage, found)
                shown &= inside
            case Patched(patches=patches):
                for patch in reversed(patches):
                    here, corner = np.flatnonzero(_in_rect(found, patch.rect)), patch.rect[:2]
                    part = found[here] - corner
                    for inner in reversed(patch.plan.stages):
                        if isinstance(inner, Resample):
                            part, inside = _undone(inner, part)
                            shown[here] &= inside
                    found[here] = part + np.array(corner)
    keys = [plan.image] * len(found)
    match plan.base:
        case Tiled(tiles=tiles):
            keys = [""] * len(found)
            for tile in tiles:
                here = np.flatnonzero(_in_rect(found, tile.last_window()) & np.array([not key for key in keys]))
                found[here], own = _followed(tile, found[here], size)
                for place, key in zip(here.tolist(), own, strict=True):
                    keys[place] = key
        case Mixed(own=own_plan, partner=partner, weight=weight):
            found, keys = _followed(own_plan if weight >= 0.5 else partner, found, size)
        case Pasted(own=own_plan):
            found, keys = _followed(own_plan, found, size)
        case None:
            shown &= _within(found, size(plan.image))
    return found, [key if here else "" for key, here in zip(keys, shown.tolist(), strict=True)]


def _undone(run: Resample, points: Points) -> tuple[Points, NDArray[np.bool_]]:
    """Where points of the picture after a resample were before it, and whether it shows them there."""
    x0, y0, x1, y1 = run.target_rect
    inside = ((points >= (x0 - HAIR, y0 - HAIR)) & (points <= (x1 + HAIR, y1 + HAIR))).all(axis=1)
    found = run.matrix.inverse().points(points)
    for before, field in reversed(run.bends):
        found = before.inverse().points(backward(found, field))
    return found, np.asarray(inside & _within(found, run.before), np.bool_)


def _in_rect(points: Points, rect: Rect | Window) -> NDArray[np.bool_]:
    """Whether points lie in a rect; of its borders the left and the upper belong to it."""
    x0, y0, x1, y1 = rect
    return np.asarray(((points >= (x0, y0)) & (points < (x1, y1))).all(axis=1), np.bool_)


def _within(points: Points, size: Size) -> NDArray[np.bool_]:
    return np.asarray(((points >= -HAIR) & (points <= np.array(size) + HAIR)).all(axis=1), np.bool_)


def _boxes(plan: Plan, boxes: Points, size: Callable[[str], Size]) -> FoundArray:
    """The boxes around what comes back of boxes' borders, cut at the picture that their middle lies in."""
    found, keys = np.full((len(boxes), 4), np.nan), [""] * len(boxes)
    t = np.linspace(0, 1, ALONG_A_SIDE)
    ones = np.ones_like(t)
    for place, (x0, y0, x1, y1) in enumerate(boxes):
        _, (key,) = _followed(plan, np.array([[(x0 + x1) / 2, (y0 + y1) / 2]]), size)
        if not key:
            continue
        across, down = x0 + t * (x1 - x0), y0 + t * (y1 - y0)
        border = np.concatenate([np.stack(side, axis=1) for side in ((across, y0 * ones), (across, y1 * ones), (x0 * ones, down), (x1 * ones, down))])
        points = _in_picture(plan, border, key, size)
        low, high = points.min(axis=0).clip(0, np.array(size(key))), points.max(axis=0).clip(0, np.array(size(key)))
        found[place], keys[place] = (*low, *high), key
    return _found(found, keys)


def _in_picture(plan: Plan, points: Points, key: str, size: Callable[[str], Size]) -> Points:
    """Points followed back as far as they lie in one picture, the others as if it went on."""
    found, keys = _followed(plan, points, size)
    own = np.array([each in (key, "") for each in keys])
    return found[own] if own.any() else found


def _outlines(plan: Plan, rings: Sequence[Points], size: Callable[[str], Size]) -> FoundList:
    found, keys = [], []
    for ring in rings:
        points, own = _followed(plan, ring, size)
        named = [key for key in own if key]
        key = max(set(named), key=named.count) if named else ""
        points[[each not in (key, "") for each in own]] = np.nan
        found.append(points if key else np.full_like(points, np.nan))
        keys.append(key)
    made = FoundList(found)
    made.keys = keys
    return made


def array_back(plan: Plan, array: NDArray[Any], key: str, size: Callable[[str], Size]) -> FoundArray:
    """Values at every pixel of the picture `key` from where the variant shows it, interpolated; NaN where it does not.

    array: of the variant's size. Raises `ArrayError` for a picture that is not in the variant.
    """
    from scipy.ndimage import map_coordinates

    width, height = size(key)
    columns, rows = np.meshgrid(np.arange(width) + 0.5, np.arange(height) + 0.5)
    there, shown = _forward(plan, np.stack([columns.ravel(), rows.ravel()], axis=1), key)
    bands = array.reshape(*array.shape[:2], -1).astype(np.float64)
    at = (there[:, ::-1] - 0.5).T
    found = np.stack([map_coordinates(bands[:, :, band], at, order=1, mode="nearest") for band in range(bands.shape[2])], axis=-1)
    found[~shown] = np.nan
    return _found(found.reshape(height, width, *array.shape[2:]), [key])


def _forward(plan: Plan, points: Points, key: str) -> tuple[Points, NDArray[np.bool_]]:
    """Where points of the picture `key` are in the variant, and whether it shows them."""
    found, shown = points, np.ones(len(points), np.bool_)
    match plan.base:
        case Tiled(tiles=tiles):
            tile = next((each for each in tiles if each.image == key or key in each.partners()), None)
            if tile is None:
                raise ArrayError(f"back: {key} is not in this variant; there are {', '.join([plan.image, *plan.partners()])}")
            found, shown = _forward(tile, points, key)
            shown &= _in_rect(found, tile.last_window())
        case Mixed(own=own, partner=partner):
            found, shown = _forward(own if key == own.image or key in own.partners() else partner, points, key)
        case Pasted(own=own):
            found, shown = _forward(own, points, key)
        case None:
            if key != plan.image:
                raise ArrayError(f"back: {key} is not in this variant; there is {plan.image}")
    for stage in plan.stages:
        match stage:
            case Resample():
                found = stage.points(found)
                left, top, right, bottom = stage.target_rect
                shown = shown & ((found >= (left, top)) & (found <= (right, bottom))).all(axis=1)
            case Patched(patches=patches):
                for patch in patches:
                    here, corner = np.flatnonzero(_in_rect(found, patch.rect)), patch.rect[:2]
                    found = found.copy()
                    for inner in patch.plan.stages:
                        if isinstance(inner, Resample):
                            found[here] = inner.points(found[here] - corner) + np.array(corner)
    return found, np.asarray(shown, np.bool_)


def _found(values: NDArray[Any], keys: list[str]) -> FoundArray:
    made = np.asarray(values, np.float64).view(FoundArray)
    made.keys = keys
    return made
