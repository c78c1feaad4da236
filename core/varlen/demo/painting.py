"""The made-up moths of the survey: shape, color and pattern of each species.

A moth's own frame: the origin at the middle of its thorax, v towards the abdomen, u towards
its right, lengths in forewing lengths. A wing is the area r < R(θ) around its hinge, θ
measured from straight ahead outwards.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from varlen.kernels.jit import inlined, kernel

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


#: Nothing of a moth lies further from its middle, squared forewing lengths.
FURTHEST = 1.4


class WingLayers(NamedTuple):
    """Wings in the order they are painted, L of them: side −1 or 1, hinge (L, 2), sweep in degrees, R(θ) as angles (L, 181) and lengths (L, 181), the
    spot's direction in degrees, and which are hindwings."""

    side: Floats
    hinge: Floats
    sweep: Floats
    angles: Floats
    lengths: Floats
    spot: Floats
    hind: np.ndarray


class Pattern(NamedTuple):
    """Colors (3,) in linear levels and the marks of a wing: bands (B, 2), the spot's place, direction and size, how rough, how many stripes."""

    ground: Floats
    second: Floats
    mark: Floats
    body: Floats
    bands: Floats
    spot: Floats
    rough: float
    stripes: float


@inlined
def _limited(value: float) -> float:
    return min(max(value, 0.0), 1.0)


@inlined
def _grain_at(grain: Floats, x: float, y: float) -> float:
    """A tile of noise between its points, repeated without end."""
    rows, columns = grain.shape
    y, x = y - rows * np.floor(y / rows), x - columns * np.floor(x / columns)
    top, left = int(y), int(x)
    down, right = y - top, x - left
    below, beside = (top + 1) % rows, (left + 1) % columns
    upper = grain[top % rows, left % columns] * (1.0 - right) + grain[top % rows, beside] * right
    lower = grain[below, left % columns] * (1.0 - right) + grain[below, beside] * right
    return float(upper * (1.0 - down) + lower * down)


@inlined
def _rough_at(grain: Floats, u: float, v: float) -> float:
    return _grain_at(grain, u * 46 + 11, v * 46 + 5)


@inlined
def _reach(angles: Floats, lengths: Floats, wing: int, theta: float) -> float:
    """R(θ) of a wing: straight lines between evenly spaced angles, 0 beyond them."""
    last = angles.shape[1] - 1
    first, span = angles[wing, 0], angles[wing, last] - angles[wing, 0]
    if not first <= theta <= angles[wing, last]:
        return 0.0
    place = min(int((theta - first) / span * last), last - 1)
    if theta < angles[wing, place]:
        place -= 1
    elif place < last - 1 and theta >= angles[wing, place + 1]:
        place += 1
    slope = (lengths[wing, place + 1] - lengths[wing, place]) / (angles[wing, place + 1] - angles[wing, place])
    return float(slope * (theta - angles[wing, place]) + lengths[wing, place])


@inlined
def _wing_color(
    pattern: Pattern, hind: bool, middle: float, theta: float, radius: float, reach: float, rough: float, coarse: float, out: Floats
) -> None:
    """The color of a place on a wing, `theta` degrees from straight ahead and `radius` from its hinge, into `out` (3,)."""
    share = radius / max(reach, 1e-6)
    wavy = share + 0.035 * coarse
    tone = _limited(0.5 + 0.5 * coarse * pattern.rough + 0.25 * (share - 0.5))
    for c in range(3):
        out[c] = pattern.ground[c] * (1 - 0.6 * tone) + pattern.second[c] * 0.6 * tone
    for band in range(len(pattern.bands)):
        place, width = pattern.bands[band, 0], pattern.bands[band, 1]
        strength = np.exp(-(((wavy - place) / width) ** 2)) * (0.45 if hind else 0.85)
        dark = np.exp(-(((wavy - place - 1.7 * width) / width) ** 2)) * 0.4
        for c in range(3):
            out[c] = (out[c] * (1 - strength) + pattern.mark[c] * strength) * (1 - dark * 0.7)
    turn = np.radians(theta)
    if pattern.stripes > 0:
        vein = np.cos(turn * pattern.stripes * 2.0) ** 8
        for c in range(3):
            out[c] *= 1 - 0.28 * vein * _limited(share - 0.15)
    place, size = pattern.spot[0], pattern.spot[2]
    if size > 0 and not hind:
        distance = np.hypot(radius - place, np.radians(theta - middle) * max(radius, 0.05)) / size
        ring, heart = 1 - 0.8 * np.exp(-(distance**4)), np.exp(-((distance / 0.45) ** 4)) * 0.9
        for c in range(3):
            out[c] = out[c] * ring + pattern.mark[c] * heart
    fringe = _limited((share - 0.93) / 0.07)
    relief = 1.0 + 0.10 * np.sin(turn * 9.0) * share + 0.16 * rough
    for c in range(3):
        out[c] = out[c] * (1 - 0.3 * fringe) * relief * (1.08 if hind else 1.0)


@inlined
def _wings_at(wings: WingLayers, furthest: Floats, pattern: Pattern, u: float, v: float, edge: float, grain: Floats, color: Floats,
              shade: Floats) -> float:  # fmt: skip
    """All wings over each other at one place, into `color` (3,); how much of the place they cover. furthest: from each hinge, of wing and shade."""
    cover, rough, coarse, known = 0.0, 0.0, 0.0, False
    for layer in range(len(wings.side)):
        beside = wings.side[layer] * u
        if beside <= wings.hinge[layer, 0] - 0.4:
            continue
        du, dv = beside - wings.hinge[layer, 0], v - wings.hinge[layer, 1]
        radius = np.sqrt(du * du + dv * dv)
        if radius >= furthest[layer]:
            continue
        theta = np.degrees(np.arctan2(du, -dv))
        theta = (theta + 360.0 if theta < 0 else theta) - wings.sweep[layer]
        if theta > 270.0:
            theta -= 360.0
        reach = _reach(wings.angles, wings.lengths, layer, theta)
        # Neither the wing nor its shade goes further than this.
        if radius >= max(reach * 1.05 + 0.06, reach + 0.5 / edge):
            continue
        part = _limited((reach - radius) * edge + 0.5) if reach > 0 else 0.0
        if not wings.hind[layer]:
            # A forewing throws a soft shade on what lies under it.
            light = 1.0 - 0.45 * _limited((reach * 1.05 - radius) * 9.0 + 0.5) * (1 - part)
            for c in range(3):
                color[c] *= light
        if part > 0:
            if not known:
                rough, coarse, known = _rough_at(grain, u, v), _grain_at(grain, u * 13 + 60, v * 13 + 20), True
            _wing_color(pattern, wings.hind[layer], wings.spot[layer], theta, radius, reach, rough, coarse, shade)
            for c in range(3):
                color[c] = color[c] * (1 - part) + shade[c] * part
        cover = max(cover, part)
    return cover


@inlined
def _body_at(pattern: Pattern, u: float, v: float, edge: float, grain: Floats, cover: float, color: Floats) -> float:
    """Abdomen with rings, furry thorax and head on top of the wings; how much of the place is covered then."""
    if abs(u) > max(0.12 + 0.5 / edge, 0.085 * (1 + 6.25 / edge)):
        return cover
    rough = _rough_at(grain, u, v)
    taper = 0.105 * np.sqrt(_limited(1.0 - ((v - 0.13) / 0.44) ** 2))
    abdomen = _limited((taper - abs(u) + 0.008 * rough) * edge + 0.5) if taper > 0 else 0.0
    head = np.sqrt((u / 0.085) ** 2 + ((v + 0.26) / 0.09) ** 2)
    part = max(abdomen, _limited((1.0 - head) * 0.08 * edge + 0.5))
    if part == 0:
        return cover
    round_ = np.sqrt(min(max(1.0 - (u / max(taper, 0.085)) ** 2, 0.05), 1.0))
    rings = 0.78 if v > 0.12 and np.sin(v * 62.0) > 0.2 else 1.0
    for c in range(3):
        color[c] = color[c] * (1 - part) + pattern.body[c] * (round_ * rings * (1.0 + 0.35 * rough)) * part
    return max(cover, part)


@inlined
def _antennae_at(lines: Floats, thick: float, pattern: Pattern, u: float, v: float, edge: float, cover: float, color: Floats) -> float:
    """Both antennae, as dense points (2, P, 2), on top of all; how much of the place is covered then."""
    for side in range(2):
        if not (-0.05 < (2 * side - 1) * u < 0.6 and -1.0 < v < -0.2):
            continue
        squared = 81.0
        for point in range(lines.shape[1]):
            dx, dy = u - lines[side, point, 0], v - lines[side, point, 1]
            squared = min(squared, dx * dx + dy * dy)
        part = _limited((thick - np.sqrt(squared)) * edge + 0.5)
        if part == 0:
            continue
        for c in range(3):
            color[c] = color[c] * (1 - part) + pattern.body[c] * 0.6 * part
        cover = max(cover, part)
    return cover


@kernel
def paint_frame(pose: tuple[float, float, float, float, float], frame: tuple[int, int, int, int], wings: WingLayers, pattern: Pattern, lines: Floats,
                thick: float, grain: Floats, colors: Floats, covers: Floats) -> None:  # fmt: skip
    """One moth into `colors` (H, W, 3), times its cover, and `covers` (H, W): means of four places in each pixel.

    pose: its middle in px, its forewing's length in px, cosine and sine of its heading; frame: x0, y0, x1, y1 in px; lines: the antennae's points
    (2, P, 2); thick: how thick these are; grain: a tile of smooth noise in −1 … 1 that scales and veins are made from.
    """
    middle_x, middle_y, length, cos, sin = pose
    x0, y0, x1, y1 = frame
    edge = length / 1.2
    color, shade = np.zeros(3), np.zeros(3)
    furthest = np.zeros(len(wings.side))
    for layer in range(len(furthest)):
        for place in range(wings.lengths.shape[1]):
            reach = wings.lengths[layer, place]
            furthest[layer] = max(furthest[layer], reach * 1.05 + 0.06, reach + 0.5 / edge)
    for row in range(y1 - y0):
        for column in range(x1 - x0):
            total = 0.0
            for look in range(4):
                dx = (x0 + column + 0.5 * (look // 2) + 0.25 - middle_x) / length
                dy = (y0 + row + 0.5 * (look % 2) + 0.25 - middle_y) / length
                u, v = cos * dx + sin * dy, -sin * dx + cos * dy
                if u * u + v * v >= FURTHEST:
                    continue
                for c in range(3):
                    color[c] = 0.0
                cover = _wings_at(wings, furthest, pattern, u, v, edge, grain, color, shade) if u * u + v * v < 1.35 else 0.0
                cover = _body_at(pattern, u, v, edge, grain, cover, color)
                cover = _antennae_at(lines, thick, pattern, u, v, edge, cover, color)
                total += cover
                for c in range(3):
                    colors[row, column, c] += _limited(color[c]) * cover
            covers[row, column] = total / 4
            for c in range(3):
                colors[row, column, c] /= 4
