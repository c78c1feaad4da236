"""Color matrices and tables on every pixel, in fixed point."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.jit import kernel
from varlen.kernels.packed_pixels import load16, store16
from varlen.kernels.warp_affine import Pixels
from varlen.kernels.wide_levels import HAS_WIDE, WIDE, matrix16
from varlen.model.effects import Curve, Recolor

BITS = 14

#: A picture's bytes, the pixels of its lines, and the window: left, top, columns, rows.
Area = tuple[NDArray[np.uint8], int, int, int, int, int]


def recolor(pixels: Pixels, window: tuple[int, int, int, int], colors: Sequence[Recolor | Curve]) -> None:
    """One pass over `window`, in place: a table, a 3×4 matrix and a table, in this order, each of which may be missing.

    pixels: (H, W, 3) uint8, contiguous. Matrix coefficients are rounded to 1/16384; levels are
    cut off at 0 and 255 after the matrix.
    """
    matrix = next((color for color in colors if isinstance(color, Recolor)), None)
    place = colors.index(matrix) if matrix is not None else len(colors)
    before, after = _levels(colors[:place]), _levels(colors[place + 1 :])
    x0, y0, x1, y1 = window
    area = (pixels.reshape(-1), pixels.shape[1], x0, y0, x1 - x0, y1 - y0)
    if matrix is None:
        _replace_all(area, SAME if before is None else before)
        return
    if before is not None:
        _replace_all(area, before)
    whole = _whole(matrix)
    if HAS_WIDE and np.abs(whole.reshape(3, 4)[:, :3]).max() < 1 << 15:
        _recolor_by_sixteen(area, whole, after)
    elif after is None:
        _recolor(*area, whole)
    else:
        _recolor_and_look_up(*area, whole, after)


def _recolor_by_sixteen(area: Area, whole: NDArray[np.int32], after: NDArray[np.uint8] | None) -> None:
    """The matrix on sixteen pixels at a time, and perhaps a table after it."""
    by_channel = np.zeros((3, 4), np.int16)
    by_channel[:, :3] = whole.reshape(3, 4)[:, :3]
    pairs, offsets = by_channel.reshape(12), np.ascontiguousarray(whole[3::4])
    if after is None:
        _recolor_wide(*area, pairs, offsets, whole)
    elif area[4] * area[5] < MANY:
        _recolor_wide_and_look_up(*area, pairs, offsets, whole, after)
    else:
        _recolor_wide_and_look_up_pairs(*area, pairs, offsets, whole, _in_pairs(after), after)


def _replace_all(area: Area, table: NDArray[np.uint8]) -> None:
    if area[4] * area[5] < MANY:
        _look_up(*area, table)
    else:
        _look_up_pairs(*area, _in_pairs(table), table)


def _in_pairs(table: NDArray[np.uint8]) -> NDArray[np.uint16]:
    """The table for two levels at once: 65536 pairs, low level first."""
    wide = table.astype(np.uint16)
    pairs: NDArray[np.uint16] = np.add.outer(wide << 8, wide).reshape(-1)
    return pairs


#: From so many pixels on it pays to look up two levels at once.
MANY = 100_000


SAME = np.arange(256, dtype=np.uint8)


def _levels(colors: Sequence[Recolor | Curve]) -> NDArray[np.uint8] | None:
    curve = next((color for color in colors if isinstance(color, Curve)), None)
    return None if curve is None else np.frombuffer(curve.levels, np.uint8)


def _whole(color: Recolor) -> NDArray[np.int32]:
    """The matrix in 1/16384, with half a level added for rounding."""
    matrix = color.matrix
    limit = 1 << 20  # 64 ×: products of three levels stay within 32 bits
    whole = [min(max(round(value * (1 << BITS)), -limit), limit) for value in matrix]
    for n in (3, 7, 11):
        offset = min(max(matrix[n], -32768.0), 32767.0)
        whole[n] = round(offset * (1 << BITS)) + (1 << (BITS - 1))
    return np.array(whole, np.int32)


@kernel
def _level(value):
    return np.uint8(min(max(value >> 14, 0), 255))


@kernel
def _recolor(pixels, stride, left_column, top_row, columns, rows, m):
    m0, m1, m2, m3, m4, m5, m6, m7, m8, m9, m10, m11 = m[0], m[1], m[2], m[3], m[4], m[5], m[6], m[7], m[8], m[9], m[10], m[11]
    for row in range(rows):
        begin = 3 * ((top_row + row) * stride + left_column)
        line = pixels[begin : begin + 3 * columns]
        for column in range(columns):
            red = np.int32(line[3 * column])
            green = np.int32(line[3 * column + 1])
            blue = np.int32(line[3 * column + 2])
            line[3 * column] = _level(np.int32(np.int32(m0 * red) + np.int32(m1 * green) + np.int32(m2 * blue) + m3))
            line[3 * column + 1] = _level(np.int32(np.int32(m4 * red) + np.int32(m5 * green) + np.int32(m6 * blue) + m7))
            line[3 * column + 2] = _level(np.int32(np.int32(m8 * red) + np.int32(m9 * green) + np.int32(m10 * blue) + m11))


@kernel
def _replace(line, table, count):
    """Every level by that of the table. Unsigned places: the compiler then need not ask whether they count from the end."""
    for n in range(count):
        k = np.uint64(n)
        line[k] = table[np.uint64(line[k])]


@kernel
def _replace_pairs(line, pairs, table, count):
    """Two levels at a time; the last of an odd number alone."""
    for n in range(count // 2):
        place = np.uint64(2 * n)
        store16(line, place, pairs[np.uint64(load16(line, place))])
    if count % 2:
        line[count - 1] = table[line[count - 1]]


@kernel
def _look_up_pairs(pixels, stride, left_column, top_row, columns, rows, pairs, table):
    for row in range(rows):
        begin = 3 * ((top_row + row) * stride + left_column)
        _replace_pairs(pixels[begin : begin + 3 * columns], pairs, table, 3 * columns)


@kernel
def _matrix_on_line(pixels, stride, left_column, row, columns, pairs, offsets, whole):
    begin = 3 * (row * stride + left_column)
    line = pixels[begin : begin + 3 * columns]
    wide = columns // WIDE * WIDE
    for column in range(0, wide, WIDE):
        matrix16(line, np.uint64(3 * column), pairs, offsets)
    _recolor(pixels, stride, left_column + wide, row, columns - wide, 1, whole)
    return line


@kernel
def _recolor_wide(pixels, stride, left_column, top_row, columns, rows, pairs, offsets, whole):
    for row in range(rows):
        _matrix_on_line(pixels, stride, left_column, top_row + row, columns, pairs, offsets, whole)


@kernel
def _recolor_wide_and_look_up(pixels, stride, left_column, top_row, columns, rows, pairs, offsets, whole, table):
    for row in range(rows):
        line = _matrix_on_line(pixels, stride, left_column, top_row + row, columns, pairs, offsets, whole)
        _replace(line, table, 3 * columns)


@kernel
def _recolor_wide_and_look_up_pairs(pixels, stride, left_column, top_row, columns, rows, pairs, offsets, whole, table_of_pairs, table):
    for row in range(rows):
        line = _matrix_on_line(pixels, stride, left_column, top_row + row, columns, pairs, offsets, whole)
        _replace_pairs(line, table_of_pairs, table, 3 * columns)


@kernel
def _look_up(pixels, stride, left_column, top_row, columns, rows, table):
    for row in range(rows):
        begin = 3 * ((top_row + row) * stride + left_column)
        _replace(pixels[begin : begin + 3 * columns], table, 3 * columns)


@kernel
def _recolor_and_look_up(pixels, stride, left_column, top_row, columns, rows, m, table):
    for row in range(rows):
        _recolor(pixels, stride, left_column, top_row + row, columns, 1, m)
        begin = 3 * ((top_row + row) * stride + left_column)
        _replace(pixels[begin : begin + 3 * columns], table, 3 * columns)
