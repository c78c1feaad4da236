"""Perspective, lens distortion, and smooth random displacement."""

from __future__ import annotations

import math
from functools import lru_cache
from typing import TYPE_CHECKING, Any, ClassVar, Literal

from pydantic import model_validator

from varlen.model.effects import MAX_SHARE_WITHOUT_FOLD, Bend, DisplacementField, Move, SampledField
from varlen.model.geometry import Size, quad_from_square, scaling
from varlen.steps.base import DrawContext, Drawn, EdgedStep, MoveStep, stream_key
from varlen.steps.parameters import Span, number, span

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from varlen.draws import Stream

#: How far from the middle a lens is followed, in half diagonals: to a little beyond the corners.
FARTHEST = 1.02
#: A lens must stretch each part outwards by this at least, or it would fold near the corners.
LEAST_STRETCH = 0.2


class Perspective(EdgedStep):
    """Look at the picture from another place: each corner moves independently, straight lines stay straight."""

    step: Literal["perspective"] = "perspective"
    # Beyond a quarter the four corners might no longer be those of a convex shape.
    corner_fraction: Span = span((0.0, 0.06), "how far the corners move, as a share of the sides", unit="of side", low=0, high=0.2)

    def draws_differ(self) -> bool:
        """Corners move independently within the drawn reach."""
        return self.corner_fraction[1] > 0

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        reach = stream.uniform(*self.corner_fraction)
        return {"corners": [[stream.uniform(-reach, reach), stream.uniform(-reach, reach)] for _ in range(4)]}

    def effect(self, drawn: Drawn, size: Size) -> Move:
        """The corners, in turn from the top left, go to (x + dx W, y + dy H)."""
        width, height = size
        places = ((0, 0), (1, 0), (1, 1), (0, 1))
        corners = [((x + dx) * width, (y + dy) * height) for (x, y), (dx, dy) in zip(places, drawn["corners"], strict=True)]
        return Move(scaling(1 / width, 1 / height).then(quad_from_square(corners)), size, self.edges, self.edge_color)


class Elastic(MoveStep):
    """Bend the picture like soft cloth: smooth, random, never folding; its border stays where it is."""

    step: Literal["elastic"] = "elastic"
    strength_fraction: Span = span((0.0, 0.02), "largest displacement, as a share of the shorter side", unit="of side", low=0, high=0.12,
                                   slider=(0, 0.05))  # fmt: skip
    spacing_fraction: float = number(0.1, "size of the bends, as a share of the shorter side", unit="of side", low=0.02, high=0.25)

    @model_validator(mode="after")
    def _never_folds(self) -> Elastic:
        most = MAX_SHARE_WITHOUT_FOLD * self.spacing_fraction
        if self.strength_fraction[1] > most:
            raise ValueError(
                f"strength_fraction {self.strength_fraction[1]:g} would fold the picture with spacing_fraction {self.spacing_fraction:g}; "
                f"at most {most:g}"
            )
        return self

    def draws_differ(self) -> bool:
        """The field of displacements is drawn."""
        return True

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"strength_fraction": stream.uniform(*self.strength_fraction), "field": stream_key(stream)}

    def effect(self, drawn: Drawn, size: Size) -> Bend | None:
        """x → x + d(x): d a smooth field of cubic B-splines, at most strength_fraction of the shorter side and zero at the border; nothing for less
        than 1/50 px.
        """
        shorter = min(size)
        strength = drawn["strength_fraction"] * shorter
        # Less than that no pixel moves visibly; and a picture of a few pixels can't be bent.
        if strength < 0.02 or shorter < 8:
            return None
        return Bend(DisplacementField(size, self.spacing_fraction * shorter, strength, drawn["field"]))


class Lens(EdgedStep):
    """Bend the picture as a lens does: barrel (lines bulge outwards) below 0, pincushion above; the middle stays."""

    step: Literal["lens"] = "lens"
    k1: Span = span((-0.12, 0.12), "first radial coefficient; below 0: barrel, above 0: pincushion", unit="coefficient", low=-0.25, high=0.5,
                    slider=(-0.25, 0.3))  # fmt: skip
    k2: Span = span(
        (0.0, 0.0), "second radial coefficient, which acts near the corners", unit="coefficient", low=-0.07, high=0.3, slider=(-0.07, 0.1)
    )
    shown: ClassVar[tuple[dict[str, Any], ...]] = ({"k1": (-0.2, -0.2)}, {"k1": (0.0, 0.0)}, {"k1": (0.2, 0.2)})

    @model_validator(mode="after")
    def _never_folds(self) -> Lens:
        least = min(1 + 3 * self.k1[0] * r * r + 5 * self.k2[0] * r**4 for r in (n / 50 * FARTHEST for n in range(51)))
        if least < LEAST_STRETCH:
            raise ValueError(f"k1 {self.k1[0]:g} and k2 {self.k2[0]:g} would fold the picture near its corners; take one of them nearer to 0")
        return self

    def draw(self, stream: Stream, context: DrawContext) -> Drawn:
        return {"k1": stream.uniform(*self.k1), "k2": stream.uniform(*self.k2)}

    def effect(self, drawn: Drawn, size: Size) -> Bend | None:
        """p → c + (1 + k1 r² + k2 r⁴) (p − c), c the middle of the picture and r = |p − c| in half diagonals (Brown 1966, Conrady 1919)."""
        if abs(drawn["k1"]) + abs(drawn["k2"]) < 1e-5 or min(size) < 8:
            return None
        return Bend(_lens_field(drawn["k1"], drawn["k2"], size), self.edges, self.edge_color)


@lru_cache(maxsize=64)
def _lens_field(k1: float, k2: float, size: Size) -> SampledField:
    import numpy as np

    from varlen.kernels.bends import sampled

    half, middle = math.hypot(*size) / 2, np.array(size) / 2
    table = np.linspace(0.0, FARTHEST, 4097)
    there = table * (1 + k1 * table**2 + k2 * table**4)
    slope = 1 / (1 + 3 * k1 * FARTHEST**2 + 5 * k2 * FARTHEST**4)

    def back(points: NDArray[np.float64]) -> NDArray[np.float64]:
        """Newton's method from a table; beyond the corners straight on."""
        away = np.hypot(*(points - middle).T) / half
        r = np.where(away < there[-1], np.interp(away, there, table), FARTHEST + (away - there[-1]) * slope)
        inside = away < there[-1]
        for _ in range(3):
            r = np.where(inside, r - (r * (1 + k1 * r**2 + k2 * r**4) - away) / (1 + 3 * k1 * r**2 + 5 * k2 * r**4), r)
        factor = np.where(away > 0, r / np.maximum(away, 1e-12), 1.0)
        found: NDArray[np.float64] = middle + (points - middle) * factor[:, None]
        return found

    return sampled(back, size, f"lens {k1!r} {k2!r}")
