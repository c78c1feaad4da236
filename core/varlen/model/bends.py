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
from dataclasses import dataclass

from varlen.model.geometry import Matrix, Size

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


Bends = tuple[tuple[Matrix, DisplacementField], ...]
"""Bends, each after a matrix of its own."""
