"""Run-length codes of masks, in COCO's open form.

Runs of 0 and 1 in turn, beginning with 0, down the columns. The compressed form writes each
count (from the fourth on: its difference to the count two before) in groups of five bits, low
group first, a sixth bit saying that more follow, offset by 48 into printable characters.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray


def counts_of(mask: NDArray[np.uint8], left: int = 0, top: int = 0, size: tuple[int, int] | None = None) -> list[int]:
    """Run lengths of a mask, column by column, beginning with a run of zeros.

    mask: (h, w), its first pixel at column `left`, row `top` of a picture of `size` (width,
    height); by itself: the whole picture.
    """
    height, width = mask.shape
    wide, high = size or (width, height)
    if wide * high == 0:
        return []
    edges = np.diff(np.pad((mask.T != 0).astype(np.int8), ((0, 0), (1, 1))), axis=1)
    column, row = np.nonzero(edges > 0)
    starts = (column + left) * high + row + top
    column, row = np.nonzero(edges < 0)
    ends = (column + left) * high + row + top
    # A run down to the bottom goes on where the next column is set at its top.
    joint = ends[:-1] == starts[1:]
    starts, ends = starts[np.concatenate([[True], ~joint])] if starts.size else starts, ends[np.concatenate([~joint, [True]])] if ends.size else ends
    turns = np.stack([starts, ends], 1).ravel()
    runs: list[int] = np.diff(np.concatenate([[0], turns, [wide * high]])).tolist()
    return runs[:-1] if runs[-1] == 0 and len(runs) > 1 else runs


def mask_of(counts: Sequence[int], height: int, width: int) -> NDArray[np.uint8]:
    """The (H, W) mask of run lengths. Raises `ValueError` when they don't add up."""
    runs = np.array(counts, np.int64)
    if runs.size and (runs.min() < 0 or runs.sum() != height * width):
        raise ValueError(f"run lengths add up to {int(runs.sum())}, not to {width}×{height}")
    values = np.arange(runs.size, dtype=np.uint8) & 1
    return np.repeat(values, runs).reshape((height, width), order="F")


def compress(counts: Sequence[int]) -> str:
    """Run lengths as a short string."""
    values = np.array(counts, np.int64)
    values[3:] -= np.array(counts, np.int64)[1:-2]
    groups = values[:, None] >> np.arange(0, 65, 5).clip(max=63)
    rest = values[:, None] >> np.arange(5, 70, 5).clip(max=63)
    # A group is the last when what remains is only its sign repeated.
    last = np.where(groups & 16, rest == -1, rest == 0)
    length = last.argmax(axis=1) + 1
    place = np.arange(groups.shape[1])
    letters = (groups & 31) + np.where(place < length[:, None] - 1, 32, 0) + 48
    return str(letters[place < length[:, None]].astype(np.uint8).tobytes(), "ascii")


def expand(text: str) -> list[int]:
    """Run lengths from the short string. Raises `ValueError` when it ends too early."""
    counts: list[int] = []
    place = 0
    while place < len(text):
        value, shift, more = 0, 0, True
        while more:
            if place >= len(text) or shift > 60:
                raise ValueError("damaged run-length code")
            group = ord(text[place]) - 48
            if not 0 <= group < 64:
                raise ValueError("damaged run-length code")
            value |= (group & 31) << shift
            more = bool(group & 32)
            place += 1
            shift += 5
            if not more and group & 16:
                value |= -1 << shift
        counts.append(value + counts[-2] if len(counts) > 2 else value)
    return counts


def encode(mask: NDArray[np.uint8], left: int = 0, top: int = 0, size: tuple[int, int] | None = None) -> str:
    """A mask straight to the short string; see `counts_of`."""
    return compress(counts_of(mask, left, top, size))
