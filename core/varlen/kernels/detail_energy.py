"""What blocks of a picture hold of fine detail: gradient energy, what one more blur leaves of it, and grain.

One pass over a luma and one over a green plane, in single precision with every sum in a fixed order, so that the
numbers are the same on every processor.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.jit import kernel
from varlen.kernels.warp_affine import Pixels

#: Standard deviation of the one more blur, px.
PROBE_SIGMA = 1.5
_REACH = 5
#: Pixels that a block keeps away from the picture's border.
MARGIN = _REACH + 1
#: What `block_details` gives of a block, in this order.
FIELDS = ("gradient", "blurred", "grain", "luma_grain", "clipped")


def _weights() -> NDArray[np.float32]:
    raw = [math.exp(-(d * d) / (2 * PROBE_SIGMA**2)) for d in range(_REACH + 1)]
    whole = raw[0] + 2 * math.fsum(raw[1:])
    return np.array([value / whole for value in raw], np.float32)


WEIGHTS = _weights()


def block_details(pixels: Pixels, block: int) -> NDArray[np.float64]:
    """Facts of every whole block, (rows, columns, 5) float64 in the order of `FIELDS`.

    pixels: (H, W, 3) uint8; block: its side, px. gradient: mean squared central difference of luma (levels² per px²); blurred: the same
    after a Gaussian blur of `PROBE_SIGMA`; grain: mean square of the kernel [1 −2 1; −2 4 −2; 1 −2 1] / 6 on green (levels²); luma_grain: on luma;
    clipped: share of pixels whose green is at an end of the scale (below 2 or above 253). Blocks lie in the middle, `MARGIN` px from the border; none
    in a picture too small.
    """
    height, width = pixels.shape[:2]
    rows, columns = max(0, (height - 2 * MARGIN) // block), max(0, (width - 2 * MARGIN) // block)
    out = np.zeros((rows, columns, len(FIELDS)))
    if rows and columns:
        _details(np.ascontiguousarray(pixels), WEIGHTS, block, (height - rows * block) // 2, (width - columns * block) // 2, out)
    return out


@kernel
def _luma(bytes_, luma, green):
    """One row: luma by ITU-R BT.601, and green."""
    for x in range(luma.size):
        r, g, b = np.float32(bytes_[x, 0]), np.float32(bytes_[x, 1]), np.float32(bytes_[x, 2])
        luma[x] = np.float32(0.299) * r + np.float32(0.587) * g + np.float32(0.114) * b
        green[x] = g


@kernel
def _weighed(a0, b0, a1, b1, a2, b2, a3, b3, a4, b4, centre, weights, out):
    """Five pairs of lines and the one between them, weighed. Lines are handed over as slices: an index that may be negative stops SIMD."""
    w0, w1, w2, w3, w4, w5 = weights[0], weights[1], weights[2], weights[3], weights[4], weights[5]
    for x in range(out.size):
        near = w0 * centre[x] + w1 * (a0[x] + b0[x]) + w2 * (a1[x] + b1[x])
        out[x] = near + w3 * (a2[x] + b2[x]) + w4 * (a3[x] + b3[x]) + w5 * (a4[x] + b4[x])


@kernel
def _across(line, weights, out):
    """Blur along a row; the outer pixels are not filled."""
    n = line.size
    _weighed(line[4 : n - 6], line[6 : n - 4], line[3 : n - 7], line[7 : n - 3], line[2 : n - 8], line[8 : n - 2], line[1 : n - 9], line[9 : n - 1],
             line[0 : n - 10], line[10:n], line[5 : n - 5], weights, out[5 : n - 5])  # fmt: skip


@kernel
def _down(plane, y, weights, out):
    """Blur down the columns for one row."""
    _weighed(plane[y - 1], plane[y + 1], plane[y - 2], plane[y + 2], plane[y - 3], plane[y + 3], plane[y - 4], plane[y + 4], plane[y - 5],
             plane[y + 5], plane[y], weights, out)  # fmt: skip


@kernel
def _gradients(before, after, above, below, sums):
    """Squared central differences along one row, added to `sums`."""
    quarter = np.float32(0.25)
    for x in range(sums.size):
        across, down = after[x] - before[x], below[x] - above[x]
        sums[x] += quarter * (across * across + down * down)


@kernel
def _second(left, here, right, out):
    """Second differences along a row: left − 2 here + right."""
    for x in range(out.size):
        out[x] = left[x] - np.float32(2) * here[x] + right[x]


@kernel
def _squared(above, here, below, sums):
    """Squared second differences of three rows' second differences, over 36, added to `sums`."""
    share = np.float32(1.0 / 36.0)
    for x in range(sums.size):
        found = above[x] - np.float32(2) * here[x] + below[x]
        sums[x] += share * found * found


@kernel
def _clipped(line, sums):
    low, high, one, none = np.float32(2), np.float32(253), np.float32(1), np.float32(0)
    for x in range(sums.size):
        sums[x] += one if (line[x] < low) | (line[x] > high) else none


@kernel
def _details(pixels, weights, block, top, left, out):
    """Band after band of blocks, in planes of one band with its margins: they stay in the processor's cache."""
    width, rows, columns = pixels.shape[1], out.shape[0], out.shape[1]
    span = columns * block
    right, high, kept = left + span, block + 12, 12
    luma, green = np.empty((high, width), np.float32), np.empty((high, width), np.float32)
    half, soft = np.empty((high, width), np.float32), np.empty((high, width), np.float32)
    second, second_luma = np.empty((high, width), np.float32), np.empty((high, width), np.float32)
    sums = np.empty((5, span), np.float32)
    for row in range(rows):
        first = 0
        if row > 0:
            for y in range(kept):
                luma[y], green[y], half[y] = luma[y + block], green[y + block], half[y + block]
                second[y], second_luma[y] = second[y + block], second_luma[y + block]
            first = kept
        for y in range(first, high):
            _luma(pixels[top + row * block - 6 + y], luma[y], green[y])
            _across(luma[y], weights, half[y])
            _second(green[y, : width - 2], green[y, 1 : width - 1], green[y, 2:], second[y, 1 : width - 1])
            _second(luma[y, : width - 2], luma[y, 1 : width - 1], luma[y, 2:], second_luma[y, 1 : width - 1])
        for y in range(5, high - 5):
            _down(half, y, weights, soft[y])
        sums[:] = 0.0
        for y in range(6, block + 6):
            here = luma[y]
            _gradients(here[left - 1 : right - 1], here[left + 1 : right + 1], luma[y - 1, left:right], luma[y + 1, left:right], sums[0])
            here = soft[y]
            _gradients(here[left - 1 : right - 1], here[left + 1 : right + 1], soft[y - 1, left:right], soft[y + 1, left:right], sums[1])
            _squared(second[y - 1, left:right], second[y, left:right], second[y + 1, left:right], sums[2])
            _squared(second_luma[y - 1, left:right], second_luma[y, left:right], second_luma[y + 1, left:right], sums[3])
            _clipped(green[y, left:right], sums[4])
        for column in range(columns):
            for field in range(5):
                total = 0.0
                for x in range(column * block, (column + 1) * block):
                    total += sums[field, x]
                out[row, column, field] = total / (block * block)
