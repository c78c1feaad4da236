"""The made-up moths of the survey: shape, color and pattern of each species.

A moth's own frame: the origin at the middle of its thorax, v towards the abdomen, u towards
its right, lengths in forewing lengths. A wing is the area r < R(θ) around its hinge, θ
measured from straight ahead outwards.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Color = tuple[float, float, float]


@dataclass(frozen=True)
class Wing:
    """Control points of R(θ): angles in degrees from straight ahead, and lengths."""

    angles: tuple[float, ...]
    lengths: tuple[float, ...]
    hinge: tuple[float, float]

    def outline(self) -> tuple[Floats, Floats]:
        """R(θ), smooth between the control points: 181 angles in degrees, evenly spaced, and their lengths."""
        fine = np.linspace(self.angles[0], self.angles[-1], 181)
        coarse = np.interp(fine, self.angles, self.lengths)
        padded = np.pad(coarse, 6, mode="edge")
        smooth = np.convolve(padded, np.hanning(13) / np.hanning(13).sum(), "valid")
        smooth[[0, -1]] = 0.0
        return fine, smooth

    def radius(self, theta: Floats) -> Floats:
        """R(θ) for θ in degrees, 0 beyond the control points."""
        return np.interp(theta, *self.outline(), left=0.0, right=0.0)

    def tip(self) -> tuple[float, float]:
        """Angle and length of the point furthest from the hinge, a little inside."""
        fine = np.linspace(self.angles[0], self.angles[-1], 361)
        radii = self.radius(fine)
        best = int(radii.argmax())
        return float(fine[best]), float(radii[best]) * 0.96


@dataclass(frozen=True)
class Species:
    """One species: its wings, colors (linear 0-1) and wing pattern."""

    name: str
    fore: Wing
    hind: Wing
    ground: Color
    second: Color
    mark: Color
    body: Color
    bands: tuple[tuple[float, float], ...]
    spot: tuple[float, float, float]
    rough: float
    stripes: float
    antenna: float


def _fore(sweep: float, width: float, hook: float = 0.0) -> Wing:
    angles = (sweep - 14, sweep - 4, sweep + 4, sweep + 20, sweep + 40 * width, sweep + 62 * width, sweep + 72 * width)
    return Wing(angles, (0.30, 1.0, 0.98 - hook, 0.84 - hook / 2, 0.70 + hook / 2, 0.52, 0.25), (0.07, -0.10))


def _hind(sweep: float, length: float, tail: float = 0.0) -> Wing:
    angles = (sweep - 30, sweep - 10, sweep + 8, sweep + 22, sweep + 34, sweep + 48, sweep + 58)
    return Wing(angles, (0.32, length * 0.86, length * 0.94, length, length * (0.92 + tail), length * 0.68, 0.22), (0.06, 0.04))


SPECIES = (
    Species("ash veil", _fore(62, 0.95), _hind(112, 0.72), (0.46, 0.42, 0.37), (0.25, 0.22, 0.20), (0.72, 0.69, 0.62),
            (0.36, 0.32, 0.28), ((0.38, 0.035), (0.66, 0.045), (0.82, 0.02)), (0.55, 0.32, 0.07), 0.55, 9.0, 0.52),
    Species("copper hook", _fore(56, 1.05, 0.07), _hind(110, 0.66), (0.55, 0.27, 0.11), (0.30, 0.12, 0.06), (0.88, 0.58, 0.25),
            (0.38, 0.19, 0.09), ((0.50, 0.02), (0.72, 0.07)), (0.62, 0.40, 0.06), 0.35, 0.0, 0.46),
    Species("lantern mote", _fore(70, 1.0), _hind(122, 0.78), (0.80, 0.74, 0.56), (0.58, 0.46, 0.26), (0.28, 0.20, 0.12),
            (0.74, 0.66, 0.50), ((0.55, 0.018), (0.60, 0.014), (0.88, 0.05)), (0.45, 0.45, 0.09), 0.25, 0.0, 0.60),
    Species("reed sailer", _fore(50, 0.78), _hind(104, 0.80, 0.10), (0.44, 0.47, 0.29), (0.27, 0.31, 0.17), (0.76, 0.76, 0.54),
            (0.40, 0.40, 0.25), ((0.30, 0.03), (0.48, 0.03), (0.66, 0.03), (0.84, 0.03)), (0.0, 0.0, 0.0), 0.3, 14.0, 0.55),
    Species("dusk marble", _fore(66, 1.1), _hind(118, 0.84), (0.20, 0.17, 0.20), (0.10, 0.09, 0.12), (0.74, 0.42, 0.30),
            (0.16, 0.13, 0.15), ((0.44, 0.06), (0.78, 0.05)), (0.66, 0.5, 0.12), 0.8, 6.0, 0.42),
)  # fmt: skip

KEYPOINTS = (
    "head", "abdomen tip", "left forewing tip", "right forewing tip",
    "left hindwing tip", "right hindwing tip", "left antenna tip", "right antenna tip",
)  # fmt: skip
LINES = ((0, 1), (0, 2), (0, 3), (1, 4), (1, 5), (0, 6), (0, 7))
