"""Plane transforms in continuous pixel coordinates.

The origin is the top-left *corner* of the image, x to the right, y down; the pixel in
column j, row i covers [j, j+1) × [i, i+1) and its centre is (j + 0.5, i + 0.5).

A transform is a 3×3 matrix of plain floats, row by row, mapping points of the picture
before to points of the picture after (homogeneous coordinates):

    | a b c |   | x |
    | d e f | · | y |
    | g h i |   | 1 |

Plain floats and `math`, not arrays: these are a handful of numbers a variant.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

Point = tuple[float, float]
Rect = tuple[float, float, float, float]

#: No perspective brings a point nearer than this (the divisor of its coordinates).
NEAREST = 0.02


class Size(NamedTuple):
    """Width and height of a picture in whole pixels."""

    width: int
    height: int

    @property
    def rect(self) -> Rect:
        """The whole picture as (x_min, y_min, x_max, y_max)."""
        return (0.0, 0.0, float(self.width), float(self.height))


class Matrix(NamedTuple):
    """A 3×3 transform of points, row by row."""

    a: float = 1.0
    b: float = 0.0
    c: float = 0.0
    d: float = 0.0
    e: float = 1.0
    f: float = 0.0
    g: float = 0.0
    h: float = 0.0
    i: float = 1.0

    @property
    def affine(self) -> bool:
        """True when parallel lines stay parallel."""
        return self.g == 0.0 and self.h == 0.0 and self.i == 1.0

    @property
    def determinant(self) -> float:
        """Signed area factor of the linear part; negative for a mirror image."""
        return self.a * self.e - self.b * self.d

    @property
    def mirrors(self) -> bool:
        """True when left and right change places."""
        return self.area_factor(0.0, 0.0) < 0.0

    def then(self, after: Matrix) -> Matrix:
        """First this transform, then `after`."""
        s, t = self, after
        a, b, c, d, e, f, g, h, i = after
        p, q, r, u, v, w, x, y, z = self
        if g == h == x == y == 0.0 and i == z == 1.0:
            return Matrix(a * p + b * u, a * q + b * v, a * r + b * w + c, d * p + e * u, d * q + e * v, d * r + e * w + f)
        product = Matrix(
            t.a * s.a + t.b * s.d + t.c * s.g,
            t.a * s.b + t.b * s.e + t.c * s.h,
            t.a * s.c + t.b * s.f + t.c * s.i,
            t.d * s.a + t.e * s.d + t.f * s.g,
            t.d * s.b + t.e * s.e + t.f * s.h,
            t.d * s.c + t.e * s.f + t.f * s.i,
            t.g * s.a + t.h * s.d + t.i * s.g,
            t.g * s.b + t.h * s.e + t.i * s.h,
            t.g * s.c + t.h * s.f + t.i * s.i,
        )
        return Matrix(*(value / product.i for value in product)) if product.i != 1.0 else product

    def inverse(self) -> Matrix:
        """The transform back. Raises `ZeroDivisionError` when the plane is flattened."""
        a, b, c, d, e, f, g, h, i = self
        if self.affine:
            det = a * e - b * d
            ia, ib, id_, ie = e / det, -b / det, -d / det, a / det
            return Matrix(ia, ib, -(ia * c + ib * f), id_, ie, -(id_ * c + ie * f))
        minors = (
            e * i - f * h, c * h - b * i, b * f - c * e,
            f * g - d * i, a * i - c * g, c * d - a * f,
            d * h - e * g, b * g - a * h, a * e - b * d,
        )  # fmt: skip
        return Matrix(*(minor / minors[8] for minor in minors))

    def point(self, x: float, y: float) -> Point:
        """Where one point goes."""
        w = self.g * x + self.h * y + self.i
        return ((self.a * x + self.b * y + self.c) / w, (self.d * x + self.e * y + self.f) / w)

    def points(self, points: NDArray[np.float64]) -> NDArray[np.float64]:
        """Where many points go: (N, 2) float64 to (N, 2) float64."""
        x, y = points[:, 0], points[:, 1]
        out = points.copy()
        out[:, 0] = self.a * x + self.b * y + self.c
        out[:, 1] = self.d * x + self.e * y + self.f
        if not self.affine:
            # Points at or behind the horizon of a perspective have no image; they end far outside instead of as NaN.
            out /= (self.g * x + self.h * y + self.i).clip(NEAREST, None)[:, None]
        return out

    def quad(self, rect: Rect) -> list[Point]:
        """The four corners of `rect` after the transform, in turn."""
        x0, y0, x1, y1 = rect
        return [self.point(x0, y0), self.point(x1, y0), self.point(x1, y1), self.point(x0, y1)]

    def depth(self, x: float, y: float) -> float:
        """The divisor of a point; 1 everywhere for an affine transform, 0 on the horizon of a perspective."""
        return self.g * x + self.h * y + self.i

    def area_factor(self, x: float, y: float) -> float:
        """How much larger a small area at (x, y) becomes; negative for a mirror image.

        The Jacobian determinant of a plane perspective, det(M) / w³.
        """
        if self.affine:
            return self.determinant
        a, b, c, d, e, f, g, h, i = self
        whole = a * (e * i - f * h) - b * (d * i - f * g) + c * (d * h - e * g)
        return whole / self.depth(x, y) ** 3

    def lossless(self) -> bool:
        """True when each pixel lands on exactly one pixel: flips, quarter turns, whole shifts."""
        return (
            self.affine
            and sorted((abs(self.a), abs(self.b))) == [0.0, 1.0]
            and sorted((abs(self.d), abs(self.e))) == [0.0, 1.0]
            and abs(self.determinant) == 1.0
            and self.c == round(self.c)
            and self.f == round(self.f)
        )

    def upright(self) -> bool:
        """True when edges stay parallel to the axes and x stays x."""
        return self.affine and self.b == 0.0 and self.d == 0.0


IDENTITY = Matrix()


def translation(x: float, y: float) -> Matrix:
    """Right by x, down by y."""
    return Matrix(c=x, f=y)


def scaling(x: float, y: float, left: float = 0.0, top: float = 0.0) -> Matrix:
    """Away from the origin by the factors x and y; the origin itself goes to (left, top)."""
    return Matrix(x, 0.0, left, 0.0, y, top)


def about(matrix: Matrix, centre: Point, to: Point | None = None) -> Matrix:
    """`matrix` about `centre` instead of the origin; the centre itself goes to `to`."""
    (x, y), (to_x, to_y) = centre, to or centre
    if matrix.affine:
        a, b, c, d, e, f = matrix[:6]
        return Matrix(a, b, c - a * x - b * y + to_x, d, e, f - d * x - e * y + to_y)
    return translation(-x, -y).then(matrix).then(translation(to_x, to_y))


def rotation(degrees: float) -> Matrix:
    """Counter-clockwise as seen on the screen (y points down) about the origin."""
    radians = math.radians(degrees)
    cos, sin = math.cos(radians), math.sin(radians)
    return Matrix(cos, sin, 0.0, -sin, cos, 0.0)


def quad_from_square(corners: Sequence[Point]) -> Matrix:
    """The perspective from the unit square to four corners, in turn from the top left.

    Heckbert, Fundamentals of Texture Mapping and Image Warping (1989), section 2.2.3.
    """
    (x0, y0), (x1, y1), (x2, y2), (x3, y3) = corners
    dx1, dx2, sx = x1 - x2, x3 - x2, x0 - x1 + x2 - x3
    dy1, dy2, sy = y1 - y2, y3 - y2, y0 - y1 + y2 - y3
    det = dx1 * dy2 - dx2 * dy1
    g, h = (sx * dy2 - dx2 * sy) / det, (dx1 * sy - sx * dy1) / det
    return Matrix(x1 - x0 + g * x1, x3 - x0 + h * x3, x0, y1 - y0 + g * y1, y3 - y0 + h * y3, y0, g, h, 1.0)


def clip_polygon(polygon: list[Point], rect: Rect) -> list[Point]:
    """The part of a polygon inside `rect` (Sutherland and Hodgman, 1974).

    The parts of one that is not convex hang together by edges along the border of `rect`,
    which hold no area.
    """
    x0, y0, x1, y1 = rect
    for axis, limit, sign in ((0, x0, 1.0), (0, x1, -1.0), (1, y0, 1.0), (1, y1, -1.0)):
        kept: list[Point] = []
        for n, end in enumerate(polygon):
            start = polygon[n - 1]
            inside_start = sign * (start[axis] - limit) >= 0.0
            inside_end = sign * (end[axis] - limit) >= 0.0
            if inside_start != inside_end:
                t = (limit - start[axis]) / (end[axis] - start[axis])
                kept.append((start[0] + t * (end[0] - start[0]), start[1] + t * (end[1] - start[1])))
            if inside_end:
                kept.append(end)
        polygon = kept
    return polygon


def area(polygon: list[Point]) -> float:
    """Area of a simple polygon (the shoelace formula), never negative."""
    total = 0.0
    for n, (x, y) in enumerate(polygon):
        px, py = polygon[n - 1]
        total += px * y - x * py
    return abs(total) / 2.0
