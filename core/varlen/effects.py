"""What a drawn step does, described without doing it.

A step turns its drawn values into one of these records; `plan` folds neighbours together
and `render` and `labels` carry them out. They hold plain numbers only, so reading the
catalogue or checking a pipeline loads no array library.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from varlen.geometry import Matrix, Rect, Size, scaling, translation

Edges = Literal["solid", "extend", "mirror", "wrap"]
Color = tuple[int, int, int]


@dataclass(frozen=True, slots=True)
class Move:
    """Geometry: every point goes through `matrix`; the picture becomes `size` pixels.

    `window` is the part of the new picture that the old one was fitted to; what lies
    outside is deliberate padding in `pad_color`. `cuts` says that what is left outside
    the frame was cut off on purpose: no later step may bring it back.
    """

    matrix: Matrix
    size: Size
    edges: Edges | None = None
    edge_color: Color = (0, 0, 0)
    cuts: bool = False
    window: Rect | None = None
    pad_color: Color = (0, 0, 0)


@dataclass(frozen=True, slots=True)
class Recolor:
    """Pointwise color: a 3×4 matrix (row by row) on (red, green, blue, 1) in 0-255 levels."""

    matrix: tuple[float, ...]

    def then(self, after: Recolor) -> Recolor:
        """First this, then `after`, with no rounding or cutting off in between."""
        s, t = self.matrix, after.matrix
        rows: list[float] = []
        for r in range(0, 12, 4):
            rows += [t[r] * s[c] + t[r + 1] * s[4 + c] + t[r + 2] * s[8 + c] for c in range(4)]
            rows[-1] += t[r + 3]
        return Recolor(tuple(rows))


@dataclass(frozen=True, slots=True)
class Blur:
    """Detail: Gaussian blur with standard deviation `sigma` in pixels."""

    sigma: float


@dataclass(frozen=True, slots=True)
class Cell:
    """One picture's place in a mosaic.

    `rect`: the part of the canvas it fills, in whole pixels; `scale`: its size relative to
    the largest that fits the canvas whole; `x`, `y`: which part of it shows where it is
    larger than its cell (0 its left or top, 1 its right or bottom).
    """

    image: str
    rect: tuple[int, int, int, int]
    scale: float
    x: float
    y: float

    def matrix(self, picture: Size, canvas: Size) -> Matrix:
        """The picture's move onto the canvas, enlarged where needed to fill its cell."""
        x0, y0, x1, y1 = self.rect
        fitted = min(canvas.width / picture.width, canvas.height / picture.height)
        factor = max(self.scale * fitted, (x1 - x0) / picture.width, (y1 - y0) / picture.height)
        left = x0 - self.x * (factor * picture.width - (x1 - x0))
        top = y0 - self.y * (factor * picture.height - (y1 - y0))
        return scaling(factor, factor).then(translation(left, top))


@dataclass(frozen=True, slots=True)
class Mosaic:
    """Composite: several pictures side by side on a canvas; cell 0 is the picture itself."""

    cells: tuple[Cell, ...]
    size: Size


Effect = Move | Recolor | Blur | Mosaic
