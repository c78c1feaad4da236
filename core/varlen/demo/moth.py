"""One moth: its outline, keypoints and picture in its own frame."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely

from varlen.demo.painting import Floats, Pattern, Species, Wing, WingLayers, paint_frame


@dataclass(frozen=True)
class Pose:
    """Where and how a moth sits: centre and forewing length in px, heading in radians, fold 0 (spread) … 1 (at rest)."""

    x: float
    y: float
    length: float
    heading: float
    fold: float
    blur: float = 0.0

    def place(self, points: Floats) -> Floats:
        """Points of the moth's frame, (N, 2), to the picture."""
        cos, sin = np.cos(self.heading), np.sin(self.heading)
        u, v = points[:, 0] * self.length, points[:, 1] * self.length
        return np.stack([self.x + cos * u - sin * v, self.y + sin * u + cos * v], 1)


def _wings(species: Species, fold: float) -> list[tuple[Wing, float]]:
    """Hindwing and forewing with the angle each is swept back by."""
    return [(species.hind, 22.0 * fold), (species.fore, 58.0 * fold)]


def _wing_outline(wing: Wing, sweep: float, side: int) -> Floats:
    theta = np.linspace(wing.angles[0], wing.angles[-1], 40)
    radius = wing.radius(theta)
    angle = np.radians(theta + sweep)
    ring = np.stack([side * (wing.hinge[0] + radius * np.sin(angle)), wing.hinge[1] - radius * np.cos(angle)], 1)
    return np.concatenate([[[side * wing.hinge[0], wing.hinge[1]]], ring])


def _antenna(species: Species, side: int) -> Floats:
    t = np.linspace(0.0, 1.0, 12)
    return np.stack([side * (0.03 + 0.34 * t**1.5 * species.antenna / 0.5), -0.27 - species.antenna * (t - 0.25 * t**2)], 1)


def outline(species: Species, pose: Pose) -> shapely.Geometry:
    """The moth's outline in the picture, antennae included."""
    pieces = [shapely.Polygon(_wing_outline(wing, sweep, side)).buffer(0) for wing, sweep in _wings(species, pose.fold) for side in (-1, 1)]
    body = shapely.Point(0, 0).buffer(1.0, 12)
    pieces.append(shapely.affinity.translate(shapely.affinity.scale(body, 0.105, 0.44), 0, 0.13))
    pieces.append(shapely.affinity.translate(shapely.affinity.scale(body, 0.085, 0.09), 0, -0.26))
    thickness = max(0.016, 0.8 / pose.length)
    pieces += [shapely.LineString(_antenna(species, side)).buffer(thickness, 2) for side in (-1, 1)]
    joined = shapely.unary_union(pieces)
    # Nobody traces the chinks of cloth between the wings.
    whole = shapely.union_all([shapely.Polygon(part.exterior) for part in getattr(joined, "geoms", [joined])]).simplify(0.4 / pose.length)
    return shapely.transform(whole, pose.place)


def keypoints(species: Species, pose: Pose) -> Floats:
    """(8, 2) places of `KEYPOINTS` in the picture."""
    points = [(0.0, -0.27), (0.0, 0.54)]
    for wing, sweep in reversed(_wings(species, pose.fold)):
        theta, radius = wing.tip()
        angle = np.radians(theta + sweep)
        points += [(side * (wing.hinge[0] + radius * np.sin(angle)), wing.hinge[1] - radius * np.cos(angle)) for side in (-1, 1)]
    points += [(side * float(x), float(y)) for side in (-1, 1) for x, y in [_antenna(species, 1)[-1]]]
    return pose.place(np.array(points))


def paint(species: Species, pose: Pose, frame: tuple[int, int, int, int], grain: Floats) -> tuple[Floats, Floats]:
    """Color (H, W, 3), times cover, and cover (H, W) of the moth in a part of the picture, x0, y0, x1, y1 in px; see `paint_frame`."""
    height, width = frame[3] - frame[1], frame[2] - frame[0]
    colors, covers = np.zeros((height, width, 3)), np.zeros((height, width))
    lines = np.stack([np.concatenate([line, (line[1:] + line[:-1]) / 2]) for line in (_antenna(species, side) for side in (-1, 1))])
    place = (pose.x, pose.y, pose.length, float(np.cos(pose.heading)), float(np.sin(pose.heading)))
    paint_frame(place, frame, _layers(species, pose.fold), _pattern(species), lines, max(0.014, 0.7 / pose.length), grain, colors, covers)
    return colors, covers


def _layers(species: Species, fold: float) -> WingLayers:
    """The four wings, those that lie below first."""
    wings = [(wing, sweep, side) for wing, sweep in _wings(species, fold) for side in (-1, 1)]
    outlines = [wing.outline() for wing, _, _ in wings]
    across = species.spot[1]
    return WingLayers(
        np.array([float(side) for _, _, side in wings]),
        np.array([wing.hinge for wing, _, _ in wings]),
        np.array([sweep for _, sweep, _ in wings]),
        np.array([angles for angles, _ in outlines]),
        np.array([lengths for _, lengths in outlines]),
        np.array([wing.angles[0] + (wing.angles[-1] - wing.angles[0]) * across for wing, _, _ in wings]),
        np.array([wing is species.hind for wing, _, _ in wings]),
    )


def _pattern(species: Species) -> Pattern:
    ground, second, mark, body = (np.array(color) for color in (species.ground, species.second, species.mark, species.body))
    return Pattern(ground, second, mark, body, np.array(species.bands), np.array(species.spot), species.rough, species.stripes)
