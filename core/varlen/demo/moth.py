"""One moth: its outline, keypoints and picture in its own frame."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
from scipy import ndimage

from varlen.demo.species import Floats, Species, Wing


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

    def local(self, x: Floats, y: Floats) -> tuple[Floats, Floats]:
        """Picture coordinates to the moth's frame."""
        cos, sin = np.cos(self.heading), np.sin(self.heading)
        dx, dy = (x - self.x) / self.length, (y - self.y) / self.length
        return cos * dx + sin * dy, -sin * dx + cos * dy


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


def paint(species: Species, pose: Pose, x: Floats, y: Floats, grain: Floats) -> tuple[Floats, Floats]:
    """Color (H, W, 3) and cover (H, W) of the moth at picture points x, y.

    grain: a tile of smooth noise in −1 … 1 that scales and veins are made from.
    """
    u, v = pose.local(x, y)
    edge = pose.length / 1.2
    rough = _noise(grain, u * 46 + 11, v * 46 + 5)
    coarse = _noise(grain, u * 13 + 60, v * 13 + 20)
    color = np.zeros((*x.shape, 3))
    cover = np.zeros(x.shape)
    for wing, sweep in _wings(species, pose.fold):
        for side in (-1, 1):
            near = np.nonzero((side * u > wing.hinge[0] - 0.4) & (u * u + v * v < 1.35))
            du, dv = side * u[near] - wing.hinge[0], v[near] - wing.hinge[1]
            radius = np.hypot(du, dv)
            theta = np.degrees(np.arctan2(du, -dv)) % 360.0 - sweep
            theta = np.where(theta > 270.0, theta - 360.0, theta)
            reach = wing.radius(theta)
            # Neither the wing nor its shade goes further than this.
            touched = radius < np.maximum(reach * 1.05 + 0.06, reach + 0.5 / edge)
            near = near[0][touched], near[1][touched]
            radius, theta, reach = radius[touched], theta[touched], reach[touched]
            part = (np.clip((reach - radius) * edge + 0.5, 0.0, 1.0) * (reach > 0))[:, None]
            shade = _wing_color(species, wing, theta, radius, reach, rough[near], coarse[near], wing is species.hind)
            under = color[near]
            if wing is species.fore:
                # A forewing throws a soft shade on what lies under it.
                under *= 1.0 - 0.45 * np.clip((reach * 1.05 - radius) * 9.0 + 0.5, 0.0, 1.0)[:, None] * (1 - part)
            color[near] = under * (1 - part) + shade * part
            cover[near] = np.maximum(cover[near], part[:, 0])
    color, cover = _paint_body(species, u, v, edge, rough, color, cover)
    for side in (-1, 1):
        line = _antenna(species, side)
        span = 0.5 / edge + max(0.014, 0.7 / pose.length)
        low, high = line.min(axis=0) - span, line.max(axis=0) + span
        near = np.nonzero(
            (side * u > -0.05) & (side * u < 0.6) & (v < -0.2) & (v > -1.0) & (u > low[0]) & (u < high[0]) & (v > low[1]) & (v < high[1])
        )
        here_u, here_v, distance = u[near], v[near], np.full(len(near[0]), 9.0)
        for px, py in np.concatenate([line, (line[1:] + line[:-1]) / 2]):
            distance = np.minimum(distance, np.hypot(here_u - px, here_v - py))
        part = np.clip((max(0.014, 0.7 / pose.length) - distance) * edge + 0.5, 0.0, 1.0)
        color[near] = color[near] * (1 - part[:, None]) + np.array(species.body) * 0.6 * part[:, None]
        cover[near] = np.maximum(cover[near], part)
    return np.clip(color, 0.0, 1.0), cover


def _wing_color(species: Species, wing: Wing, theta: Floats, radius: Floats, reach: Floats, rough: Floats, coarse: Floats, hind: bool) -> Floats:
    share = radius / np.maximum(reach, 1e-6)
    wavy = share + 0.035 * coarse
    tone = np.clip(0.5 + 0.5 * coarse * species.rough + 0.25 * (share - 0.5), 0.0, 1.0)[..., None]
    color = np.array(species.ground) * (1 - 0.6 * tone) + np.array(species.second) * 0.6 * tone
    for place, width in species.bands:
        strength = np.exp(-(((wavy - place) / width) ** 2))[..., None] * (0.45 if hind else 0.85)
        color = color * (1 - strength) + np.array(species.mark) * strength
        dark = np.exp(-(((wavy - place - 1.7 * width) / width) ** 2))[..., None] * 0.4
        color = color * (1 - dark * 0.7)
    if species.stripes:
        vein = np.cos(np.radians(theta) * species.stripes * 2.0) ** 8
        color = color * (1 - 0.28 * vein[..., None] * np.clip(share - 0.15, 0, 1)[..., None])
    place, across, size = species.spot
    if size and not hind:
        middle = wing.angles[0] + (wing.angles[-1] - wing.angles[0]) * across
        distance = np.hypot(radius - place, np.radians(theta - middle) * np.maximum(radius, 0.05)) / size
        color = color * (1 - 0.8 * np.exp(-(distance**4)))[..., None] + np.array(species.mark) * (np.exp(-((distance / 0.45) ** 4)) * 0.9)[..., None]
    fringe = np.clip((share - 0.93) / 0.07, 0.0, 1.0)[..., None]
    color = color * (1 - 0.3 * fringe)
    relief = 1.0 + 0.10 * np.sin(np.radians(theta) * 9.0) * share + 0.16 * rough
    return np.asarray(color * relief[..., None] * (1.08 if hind else 1.0))


def _paint_body(species: Species, u: Floats, v: Floats, edge: float, rough: Floats, color: Floats, cover: Floats) -> tuple[Floats, Floats]:
    """Abdomen with rings, furry thorax, head."""
    taper = 0.105 * np.sqrt(np.clip(1.0 - ((v - 0.13) / 0.44) ** 2, 0.0, 1.0))
    head = np.hypot(u / 0.085, (v + 0.26) / 0.09)
    abdomen = np.clip((taper - np.abs(u) + 0.008 * rough) * edge + 0.5, 0.0, 1.0) * (taper > 0)
    part = np.maximum(abdomen, np.clip((1.0 - head) * 0.08 * edge + 0.5, 0.0, 1.0))
    round_ = np.sqrt(np.clip(1.0 - (u / np.maximum(taper, 0.085)) ** 2, 0.05, 1.0))
    rings = 1.0 - 0.22 * (np.sin(v * 62.0) > 0.2) * (v > 0.12)
    fur = 1.0 + 0.35 * rough
    shade = np.array(species.body) * (round_ * rings * fur)[..., None]
    return color * (1 - part[..., None]) + shade * part[..., None], np.maximum(cover, part)


def _noise(grain: Floats, x: Floats, y: Floats) -> Floats:
    return np.asarray(ndimage.map_coordinates(grain, [y % grain.shape[0], x % grain.shape[1]], order=1, mode="grid-wrap"))
