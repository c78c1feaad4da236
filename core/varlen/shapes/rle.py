"""Run-length codes of masks, in COCO's open form.

Runs of 0 and 1 in turn, beginning with 0, down the columns. The compressed form writes each
count (from the fourth on: its difference to the count two before) in groups of five bits, low
group first, a sixth bit saying that more follow, offset by 48 into printable characters.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.jit import kernel


def counts_of(mask: NDArray[np.uint8], left: int = 0, top: int = 0, size: tuple[int, int] | None = None) -> list[int]:
    """Run lengths of a mask, column by column, beginning with a run of zeros.

    mask: (h, w), its first pixel at column `left`, row `top` of a picture of `size` (width,
    height); default: the whole picture.
    """
    height, width = mask.shape
    wide, high = size or (width, height)
    runs: list[int] = _runs(np.ascontiguousarray(mask), left, top, wide, high).tolist()
    return runs


def mask_of(counts: Sequence[int], height: int, width: int) -> NDArray[np.uint8]:
    """The (H, W) mask of run lengths. Raises `ValueError` when they don't add up."""
    runs = np.array(counts, np.int64)
    if runs.size and (runs.min() < 0 or runs.sum() != height * width):
        raise ValueError(f"run lengths add up to {int(runs.sum())}, not to {width}×{height}")
    values = np.arange(runs.size, dtype=np.uint8) & 1
    return np.repeat(values, runs).reshape((height, width), order="F")


def compress(counts: Sequence[int]) -> str:
    """Run lengths as a short string."""
    return str(_letters(np.array(counts, np.int64)).tobytes(), "ascii")


def expand(text: str) -> list[int]:
    """Run lengths from the short string. Raises `ValueError` when it is damaged."""
    letters = np.frombuffer(text.encode("utf-8", "replace"), np.uint8)
    counts = np.empty(letters.size, np.int64)
    found = _expand(letters, counts)
    if found < 0:
        raise ValueError("damaged run-length code")
    runs: list[int] = counts[:found].tolist()
    return runs


def tight_mask_of(counts: Sequence[int], height: int, width: int) -> tuple[int, int, NDArray[np.uint8]] | None:
    """Left, top and pixels of the smallest mask that holds all ones of the run lengths; None when there are none.

    Raises `ValueError` when the counts don't add up to height × width.
    """
    runs = np.array(counts, np.int64)
    if runs.size and (runs.min() < 0 or runs.sum() != height * width):
        raise ValueError(f"run lengths add up to {int(runs.sum())}, not to {width}×{height}")
    x0, y0, x1, y1 = _bounds(runs, height)
    if x0 >= x1:
        return None
    pixels = np.zeros((y1 - y0, x1 - x0), np.uint8)
    _fill(runs, height, x0, y0, pixels)
    return x0, y0, pixels


def encode(mask: NDArray[np.uint8], left: int = 0, top: int = 0, size: tuple[int, int] | None = None) -> str:
    """A mask straight to the short string; see `counts_of`."""
    return compress(counts_of(mask, left, top, size))


@kernel
def _runs(mask, left, top, wide, high):
    """Runs down the columns of the whole picture, of which the mask is a part."""
    height, width = mask.shape
    runs = np.empty(2 * mask.size + 3, np.int64)
    count = 0
    length = np.int64(left) * high
    value = 0
    for column in range(width):
        length += top if value == 0 else 0
        if value == 1 and top > 0:
            runs[count] = length
            count += 1
            value, length = 0, np.int64(top)
        for row in range(height):
            pixel = 1 if mask[row, column] else 0
            if pixel != value:
                runs[count] = length
                count += 1
                value, length = pixel, np.int64(0)
            length += 1
        below = high - top - height
        if value == 1 and below > 0:
            runs[count] = length
            count += 1
            value, length = 0, np.int64(0)
        length += below
    rest = np.int64(wide - left - width) * high
    if value == 1 and rest > 0:
        runs[count] = length
        count += 1
        length = np.int64(0)
    length += rest
    if length > 0:
        runs[count] = length
        count += 1
    return runs[:count]


@kernel
def _letters(counts):
    letters = np.empty(13 * counts.size, np.uint8)
    count = 0
    for place in range(counts.size):
        value = counts[place] - counts[place - 2] if place > 2 else counts[place]
        while True:
            group = value & 31
            value >>= 5
            more = value != -1 if group & 16 else value != 0
            letters[count] = (group | 32 if more else group) + 48
            count += 1
            if not more:
                break
    return letters[:count]


@kernel
def _expand(letters, counts):
    """How many counts there are, −1 when the code is damaged."""
    count = 0
    place = 0
    while place < letters.size:
        value, shift, more = np.int64(0), np.int64(0), True
        while more:
            if place >= letters.size or shift > 55:
                return -1
            group = np.int64(letters[place]) - 48
            if group < 0 or group >= 64:
                return -1
            value |= (group & 31) << shift
            more = (group & 32) != 0
            place += 1
            shift += 5
            if not more and (group & 16) != 0:
                value |= np.int64(-1) << shift
        counts[count] = value + counts[count - 2] if count > 2 else value
        count += 1
    return count


@kernel
def _bounds(runs, height):
    """First and one past the last column and row that have ones."""
    x0, y0, x1, y1 = np.int64(1) << 60, np.int64(1) << 60, np.int64(0), np.int64(0)
    start = np.int64(0)
    for place in range(runs.size):
        length = runs[place]
        if place % 2 == 1 and length > 0:
            last = start + length - 1
            first_column, last_column = start // height, last // height
            x0, x1 = min(x0, first_column), max(x1, last_column + 1)
            if first_column == last_column:
                y0, y1 = min(y0, start % height), max(y1, last % height + 1)
            else:  # it goes round the lower border
                y0, y1 = np.int64(0), np.int64(height)
        start += length
    return x0, y0, x1, y1


@kernel
def _fill(runs, height, left, top, pixels):
    start = np.int64(0)
    for place in range(runs.size):
        if place % 2 == 1:
            for at in range(start, start + runs[place]):
                pixels[at % height - top, at // height - left] = 1
        start += runs[place]
