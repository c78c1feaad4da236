"""Smooth random bends: displacement fields that never fold.

A field says for each point of the picture *after* where it comes from in the picture
*before*: g(p) = p + d(p). The displacement d is a uniform cubic B-spline over a grid of
control points

    d(x, y) = Σ c_ij · B(x / s_x − i) · B(y / s_y − j)

which vanishes, with its slope, on the border of the frame: a bend exposes nothing. It does
not fold as long as every |c| stays under 0.48 of the spacing (Choi and Lee, Injectivity
Conditions of 2D and 3D Uniform Cubic B-Spline Functions, 2000: spacing / 2.046). Labels go
the other way, p from g(p), found by Newton's method to better than 1/1000 px.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Literal, NamedTuple, Protocol

from varlen.model.geometry import Matrix, Point, Rect, Size, scaling

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray


#: Largest displacement as a share of the spacing of the control points.
MAX_SHARE_WITHOUT_FOLD = 0.48


@dataclass(frozen=True, slots=True)
class DisplacementField:
    """A bend of a picture of `size`: control points `spacing` px apart or a little more, moved up to `strength` px.

    `key` is the name of the stream that the control points are drawn from.
    """

    size: Size
    spacing: float
    strength: float
    key: int

    @property
    def cells(self) -> tuple[int, int]:
        """Number of grid cells across and down."""
        return max(4, math.floor(self.size.width / self.spacing)), max(4, math.floor(self.size.height / self.spacing))

    @property
    def steps(self) -> tuple[float, float]:
        """Distance of the control points across and down, px."""
        across, down = self.cells
        return self.size.width / across, self.size.height / down


@dataclass(frozen=True, slots=True)
class SampledField:
    """A bend of a picture of `size` that was worked out elsewhere, as control points over the frame and a margin around it.

    `steps`: distance of the control points across and down, px; `origin`: where the first lies; `control`: (down, across, 2) float64
    displacements in px; `key`: a name for them, by which two fields are the same.
    """

    size: Size
    steps: tuple[float, float]
    origin: Point
    key: str
    control: NDArray[np.float64] = field(repr=False, compare=False)


Field = DisplacementField | SampledField
Bends = tuple[tuple[Matrix, Field], ...]
"""Bends, each after a matrix of its own."""


Edges = Literal["solid", "extend", "mirror", "wrap"]
Color = tuple[int, int, int]


class Move(NamedTuple):
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
class Bend:
    """Geometry: every point moves with a smooth field; the frame stays as it is.

    `edges` say how area is filled that the picture does not reach; None for a field that exposes none.
    """

    field: Field
    edges: Edges | None = None
    edge_color: Color = (0, 0, 0)


@dataclass(frozen=True, slots=True)
class Recolor:
    """Pointwise color: a 3×4 matrix (row by row) on (red, green, blue, 1) in 0-255 levels."""

    matrix: tuple[float, ...]

    def then(self, after: Recolor) -> Recolor:
        """First this, then `after`, with no rounding or cutting off in between."""
        a, b, c, d, e, f, g, h, i, j, k, m = self.matrix
        t = after.matrix

        def row(p: float, q: float, r: float, offset: float) -> tuple[float, float, float, float]:
            return p * a + q * e + r * i, p * b + q * f + r * j, p * c + q * g + r * k, p * d + q * h + r * m + offset

        return Recolor((*row(*t[0:4]), *row(*t[4:8]), *row(*t[8:12])))

    @staticmethod
    def gains(red: float, green: float, blue: float, offset: float = 0.0) -> Recolor:
        """Each channel times a factor, plus an offset in levels."""
        return Recolor((red, 0.0, 0.0, offset, 0.0, green, 0.0, offset, 0.0, 0.0, blue, offset))


@dataclass(frozen=True, slots=True)
class Curve:
    """Pointwise color: the same table of 256 levels for every channel."""

    levels: bytes

    def then(self, after: Curve) -> Curve:
        """First this, then `after`."""
        return Curve(bytes(after.levels[level] for level in self.levels))


@dataclass(frozen=True, slots=True)
class Gray:
    """The picture is written with one channel only, its lightness, when all steps are done."""


class Applies(Protocol):
    """A step that makes new pixels itself."""

    step: str
    id: str

    def apply(self, pixels: NDArray[np.uint8], values: dict[str, Any]) -> NDArray[np.uint8]:
        """New pixels from (H, W, 3) uint8, contiguous."""

    def at_scale(self, values: dict[str, Any], factor: float) -> dict[str, Any] | None:
        """The values that look the same in a picture `factor` times as large; None where the look depends on full-size pixels."""


@dataclass(frozen=True, slots=True)
class PixelOperation:
    """Pixels to pixels by a step's own `apply`, which gets `values`: all that its result depends on."""

    step: Applies
    values: dict[str, Any]


@dataclass(frozen=True, slots=True)
class Cover:
    """Areas painted over: x_min, y_min, x_max, y_max in whole pixels.

    `fill` is a color, the picture's mean color, or noise from the stream `key`.
    """

    areas: tuple[tuple[int, int, int, int], ...]
    fill: Literal["solid", "mean", "noise"]
    color: Color
    key: int


@dataclass(frozen=True, slots=True)
class MosaicCell:
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
        return scaling(factor, factor, left, top)


@dataclass(frozen=True, slots=True)
class Mosaic:
    """Composite: several pictures side by side on a canvas; cell 0 is the picture itself."""

    cells: tuple[MosaicCell, ...]
    size: Size


@dataclass(frozen=True, slots=True)
class Mix:
    """Composite: the picture shines through a partner; `weight` is the picture's own share."""

    image: str
    weight: float


@dataclass(frozen=True, slots=True)
class PasteSource:
    """An object cut out of a partner: which one of those with an outline, how large and where.

    `choice`: 0 … 1 along the list of the partner's cut-out objects; `x`, `y`: place of its
    centre as shares of the picture's sides.
    """

    image: str
    choice: float
    scale: float
    x: float
    y: float


@dataclass(frozen=True, slots=True)
class Paste:
    """Composite: objects of partners laid over the picture."""

    guests: tuple[PasteSource, ...]


Effect = Move | Bend | Recolor | Curve | Gray | PixelOperation | Cover | Mosaic | Mix | Paste
"""What `Step.effect` may return."""
