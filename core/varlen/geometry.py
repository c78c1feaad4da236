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
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

Point = tuple[float, float]
Rect = tuple[float, float, float, float]


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
        return self.determinant < 0.0

    def then(self, after: Matrix) -> Matrix:
        """First this transform, then `after`."""
        s, t = self, after
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
            out /= (self.g * x + self.h * y + self.i)[:, None]
        return out

    def quad(self, rect: Rect) -> list[Point]:
        """The four corners of `rect` after the transform, in turn."""
        x0, y0, x1, y1 = rect
        return [self.point(x0, y0), self.point(x1, y0), self.point(x1, y1), self.point(x0, y1)]

    def scales(self) -> tuple[float, float]:
        """Smallest and largest stretch of the linear part (its singular values)."""
        s = self.a**2 + self.b**2 + self.d**2 + self.e**2
        t = math.sqrt(max(s * s - 4.0 * self.determinant**2, 0.0))
        return (math.sqrt(max((s - t) / 2.0, 0.0)), math.sqrt((s + t) / 2.0))

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


def scaling(x: float, y: float) -> Matrix:
    """Away from the origin by the factors x and y."""
    return Matrix(a=x, e=y)


def about(matrix: Matrix, centre: Point, to: Point | None = None) -> Matrix:
    """`matrix` about `centre` instead of the origin; the centre itself goes to `to`."""
    to = centre if to is None else to
    return translation(-centre[0], -centre[1]).then(matrix).then(translation(*to))


def rotation(degrees: float) -> Matrix:
    """Counter-clockwise as seen on the screen (y points down) about the origin."""
    radians = math.radians(degrees)
    cos, sin = math.cos(radians), math.sin(radians)
    return Matrix(cos, sin, 0.0, -sin, cos, 0.0)


def clip_polygon(polygon: list[Point], rect: Rect) -> list[Point]:
    """The part of a convex polygon inside `rect` (Sutherland and Hodgman, 1974)."""
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


def exposed_share(matrix: Matrix, before: Size, window: Rect) -> float:
    """Share of `window` (after) that the picture (before) does not reach, 0 … 1."""
    if matrix.upright():
        ends = sorted((matrix.c, matrix.a * before.width + matrix.c)), sorted((matrix.f, matrix.e * before.height + matrix.f))
        (x0, x1), (y0, y1) = ends
        if x0 <= window[0] + 1e-9 and y0 <= window[1] + 1e-9 and x1 >= window[2] - 1e-9 and y1 >= window[3] - 1e-9:
            return 0.0
    whole = (window[2] - window[0]) * (window[3] - window[1])
    covered = area(clip_polygon(matrix.quad(before.rect), window))
    share = 1.0 - covered / whole
    return share if share > 1e-9 else 0.0
