"""Gaussian blur in 64-bit floats with the very numbers of `scipy.ndimage.gaussian_filter`, several times faster: most of a rendered picture is blur.

Sums are taken in the same order (a tap's two sides first, from the outermost pair to the innermost), so that pictures stay what they were.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy import ndimage

from varlen.demo.moth import Pose, keypoints, outline, paint
from varlen.demo.painting import SPECIES, Floats, Species
from varlen.kernels.jit import kernel

#: Deviations beyond which taps are left out.
REACH = 4.0


@kernel
def _along_rows(values: Floats, weights: Floats, places: NDArray[np.int64], step: int, out: Floats) -> None:
    """Rows (R, N · step) of N places with `step` numbers each. weights: (radius + 1,), the middle first; places: (N + 2·radius,), which to take."""
    radius, count = len(weights) - 1, values.shape[1]
    line = np.empty(len(places) * step)
    for row in range(len(values)):
        for place in range(len(places)):
            for number in range(step):
                line[place * step + number] = values[row, places[place] * step + number]
        into = out[row]
        for place in range(count):
            into[place] = line[place + radius * step] * weights[0]
        for tap in range(radius, 0, -1):
            weight = weights[tap]
            before, after = line[(radius - tap) * step :], line[(radius + tap) * step :]
            for place in range(count):
                into[place] += (before[place] + after[place]) * weight


@kernel
def _down_columns(values: Floats, weights: Floats, places: NDArray[np.int64], out: Floats) -> None:
    """Columns of (H, N), likewise; places: (H + 2·radius,)."""
    radius = len(weights) - 1
    for row in range(len(out)):
        into, middle = out[row], values[row]
        for place in range(len(into)):
            into[place] = middle[place] * weights[0]
        for tap in range(radius, 0, -1):
            weight = weights[tap]
            before, after = values[places[row + radius - tap]], values[places[row + radius + tap]]
            for place in range(len(into)):
                into[place] += (before[place] + after[place]) * weight


def _weights(sigma: float) -> Floats:
    """Weights of a Gaussian from its middle outwards, (radius + 1,), the sum over both sides 1."""
    radius = int(REACH * sigma + 0.5)
    x = np.arange(-radius, radius + 1)
    both = np.exp(-0.5 / (sigma * sigma) * x**2)
    return np.ascontiguousarray((both / both.sum())[radius:])


def blurred(values: Floats, sigma: float | tuple[float, ...], edges: Literal["symmetric", "wrap"] = "symmetric") -> Floats:
    """Blur an array (H, W) or (H, W, C) along its axes by `sigma` px, one for all or one for each; 0 leaves an axis alone.

    edges: what lies beyond the array, its mirror image or its other side.
    """
    found = np.ascontiguousarray(values, np.float64)
    for axis, deviation in enumerate(sigma if isinstance(sigma, tuple) else (sigma,) * found.ndim):
        if deviation > 1e-15:
            found = _along(found, _weights(deviation), axis, edges)
    return found


def _along(values: Floats, weights: Floats, axis: int, edges: Literal["symmetric", "wrap"]) -> Floats:
    radius, count = len(weights) - 1, values.shape[axis]
    places = np.pad(np.arange(count), radius, mode=edges)
    step = math.prod(values.shape[axis + 1 :])
    lines = values.reshape(-1, count * step) if axis else values.reshape(count, -1)
    out = np.empty(lines.shape)
    if axis:
        _along_rows(lines, weights, places, step, out)
    else:
        _down_columns(lines, weights, places, out)
    return out.reshape(values.shape)


WIDTH, HEIGHT = 960, 720


@dataclass(frozen=True)
class Seen:
    """One moth as it is labelled: species, visible outline, keypoints (8, 3) with visibility."""

    species: int
    shape: shapely.Geometry
    keypoints: Floats


def _smooth(rng: np.random.Generator, shape: tuple[int, int], sigma: float | tuple[float, float]) -> Floats:
    """Smooth noise in about −1 … 1 that joins at its edges."""
    if not isinstance(sigma, tuple) and sigma >= 24:
        coarse = _smooth(rng, (shape[0] // 8, shape[1] // 8), sigma / 8)
        return np.asarray(ndimage.zoom(coarse, 8, order=1, mode="grid-wrap", grid_mode=True))
    noise = blurred(rng.standard_normal(shape), sigma, "wrap")
    return np.asarray(noise / (2.2 * noise.std()))


def _cloth(rng: np.random.Generator) -> Floats:
    """Reflectance of a hanging cotton sheet, (H, W): weave, folds, a seam now and then."""
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH].astype(np.float64)
    bend = 1.5 * _smooth(rng, (HEIGHT, WIDTH), 30)
    warp_thread = np.sin((x + bend) * 2 * np.pi / 3.3 + 0.5 * _smooth(rng, (HEIGHT, WIDTH), (40, 1)))
    weft_thread = np.sin((y - bend) * 2 * np.pi / 3.7 + 0.5 * _smooth(rng, (HEIGHT, WIDTH), (1, 40)))
    weave = 0.022 * warp_thread * (1 + 0.6 * _smooth(rng, (HEIGHT, WIDTH), (25, 2))) + 0.018 * weft_thread
    slub = 0.03 * _smooth(rng, (HEIGHT, WIDTH), (0.8, 9)) + 0.02 * _smooth(rng, (HEIGHT, WIDTH), (9, 0.8))
    angle = rng.uniform(-0.35, 0.35)
    across = (x - WIDTH / 2) * np.cos(angle) + (y - HEIGHT / 2) * np.sin(angle)
    folds = np.zeros_like(x)
    for _ in range(rng.integers(3, 6)):
        where, width = rng.uniform(-WIDTH / 2, WIDTH / 2), rng.uniform(22, 75)
        swing = 40 * _smooth(rng, (HEIGHT, 1), (90, 0))
        t = (across - where - swing) / width
        folds += rng.uniform(0.08, 0.2) * t * np.exp(-t * t)
    cloth = 0.82 + weave + slub + folds + 0.03 * _smooth(rng, (HEIGHT, WIDTH), 70)
    if rng.random() < 0.3:
        seam = rng.uniform(0.12, 0.88) * HEIGHT + 3 * _smooth(rng, (1, WIDTH), (0, 60))
        cloth -= 0.16 * np.exp(-(((y - seam) / 1.6) ** 2)) - 0.05 * np.exp(-(((y - seam - 5) / 3) ** 2))
        cloth -= 0.10 * (np.sin(x * 2 * np.pi / 9) > 0.3) * np.exp(-(((y - seam - 7) / 1.0) ** 2))
    return np.asarray(cloth)


def _lamp(rng: np.random.Generator) -> tuple[Floats, Floats, tuple[float, float]]:
    """Light on the sheet (H, W, 3), glare on top of it, and where the lamp hangs."""
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH].astype(np.float64)
    lamp = (rng.uniform(-0.15, 1.15) * WIDTH, rng.uniform(-0.35, 0.12) * HEIGHT)
    height = rng.uniform(260, 430)
    distance = ((x - lamp[0]) ** 2 + (y - lamp[1]) ** 2) / height**2
    falloff = 1.0 / (1.0 + distance) ** 1.15
    warm = np.array([1.0, rng.uniform(0.90, 0.97), rng.uniform(0.74, 0.92)])
    night = np.array([0.030, 0.036, 0.050]) * rng.uniform(0.7, 1.5)
    light = falloff[..., None] * warm * rng.uniform(0.95, 1.25) + night
    glare = np.exp(-distance * 5.5)[..., None] * np.array([1.0, 0.97, 0.90]) * rng.uniform(0.4, 1.1)
    return light, glare, lamp


def _poses(rng: np.random.Generator) -> list[tuple[int, Pose]]:
    """Who sits where: a few large or many small, a cluster now and then, some at the edge."""
    count = int(rng.integers(4, 12))
    base = rng.uniform(42, 92) * (1.25 if count < 6 else 0.85)
    centre = rng.uniform([0.3 * WIDTH, 0.3 * HEIGHT], [0.7 * WIDTH, 0.7 * HEIGHT])
    poses: list[tuple[int, Pose]] = []
    for _ in range(count * 6):
        if len(poses) == count:
            break
        spot = rng.normal(centre, 150) if rng.random() < 0.4 else rng.uniform([-10, -10], [WIDTH + 10, HEIGHT + 10])
        length = float(np.clip(base * rng.lognormal(0.0, 0.32), 24, 150))
        near = min((np.hypot(p.x - spot[0], p.y - spot[1]) / (p.length + length) for _, p in poses), default=9.0)
        if near < (0.62 if rng.random() < 0.25 else 1.0):
            continue
        heading = rng.normal(0.0, 1.1) if rng.random() < 0.7 else rng.uniform(-np.pi, np.pi)
        fold = float(np.clip(rng.beta(0.8, 1.1), 0, 1))
        blur = float(rng.uniform(1.2, 2.6)) if rng.random() < 0.10 else 0.0
        poses.append((int(rng.integers(len(SPECIES))), Pose(float(spot[0]), float(spot[1]), length, float(heading), fold, blur)))
    return poses


def photograph(seed: int, number: int) -> tuple[np.ndarray, list[Seen]]:
    """The picture, (720, 960, 3) uint8, and the moths on it."""
    rng = np.random.default_rng([seed, number])
    grain = _smooth(rng, (128, 128), 1.1)
    cloth = _cloth(rng)
    light, glare, lamp = _lamp(rng)
    picture = cloth[..., None] * light * np.array([1.0, 0.985, 0.95])
    _midges(rng, picture)
    seen: list[Seen] = []
    for species, pose in _poses(rng):
        _sit(picture, light, lamp, SPECIES[species], pose, grain)
        shape = outline(SPECIES[species], pose)
        seen = [Seen(old.species, old.shape.difference(shape), _hide(old.keypoints, shape)) for old in seen]
        points = keypoints(SPECIES[species], pose)
        seen.append(Seen(species, shape, np.concatenate([points, np.full((len(points), 1), 2.0)], 1)))
    return _develop(rng, picture + glare), [moth for moth in (_in_frame(moth) for moth in seen) if moth]


def _sit(picture: Floats, light: Floats, lamp: tuple[float, float], species: Species, pose: Pose, grain: Floats) -> None:
    """Shadow first, then the moth, at twice the resolution and averaged."""
    reach = pose.length * 1.12 + 6
    x0, x1 = int(max(pose.x - reach - 14, 0)), int(min(pose.x + reach + 14, WIDTH))
    y0, y1 = int(max(pose.y - reach - 14, 0)), int(min(pose.y + reach + 14, HEIGHT))
    if x0 >= x1 or y0 >= y1:
        return
    color, cover = paint(species, pose, (x0, y0, x1, y1), grain)
    if pose.blur:
        color, cover = blurred(color, (pose.blur, pose.blur, 0)), blurred(cover, pose.blur)
    away = np.array([pose.x - lamp[0], pose.y - lamp[1]])
    away = away / max(float(np.hypot(*away)), 1.0) * pose.length * (0.07 + 0.05 * (1 - pose.fold))
    shadow = ndimage.shift(blurred(cover, 1.5 + 0.035 * pose.length), (away[1], away[0]), order=1)
    part = picture[y0:y1, x0:x1]
    part *= 1.0 - 0.62 * shadow[..., None] * (1 - cover[..., None])
    part *= 1.0 - cover[..., None]
    part += color * (light[y0:y1, x0:x1] * 0.92 + 0.015)


def _midges(rng: np.random.Generator, picture: Floats) -> None:
    """Tiny flies that nobody labels."""
    y, x = np.mgrid[-7:8, -7:8].astype(np.float64)
    for _ in range(int(rng.integers(6, 26))):
        cx, cy, angle = rng.integers(8, WIDTH - 8), rng.integers(8, HEIGHT - 8), rng.uniform(0, np.pi)
        along, across = x * np.cos(angle) + y * np.sin(angle), -x * np.sin(angle) + y * np.cos(angle)
        size = rng.uniform(1.0, 2.2)
        dark = np.exp(-((along / (2.1 * size)) ** 2) - (across / (0.7 * size)) ** 2)
        picture[cy - 7 : cy + 8, cx - 7 : cx + 8] *= 1 - 0.75 * dark[..., None]


def _develop(rng: np.random.Generator, light: Floats) -> np.ndarray:
    """Lens and sensor: softness, vignette, exposure, photon and read noise, tone curve."""
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH].astype(np.float64)
    distance = ((x - WIDTH / 2) ** 2 + (y - HEIGHT / 2) ** 2) / ((WIDTH / 2) ** 2 + (HEIGHT / 2) ** 2)
    light = blurred(light, (0.55, 0.55, 0)) * (1 - 0.32 * distance)[..., None]
    light = light * rng.uniform(0.52, 0.80) / np.percentile(light, 88)
    gain = rng.uniform(0.0010, 0.0032)
    noise = rng.standard_normal(light.shape) * np.sqrt(gain * np.maximum(light, 0) + gain * 0.006)
    light = np.maximum(light + 0.55 * noise + 0.45 * blurred(noise, (0.9, 0.9, 0)) * 2.0, 0)
    bright = light / (1 + 0.22 * light)
    return np.asarray(np.clip(np.clip(bright, 0, 1) ** (1 / 2.2) * 255 + 0.5, 0, 255).astype(np.uint8))


def _hide(points: Floats, shape: shapely.Geometry) -> Floats:
    """Keypoints under a moth that came later are labelled but not visible."""
    covered = shapely.contains_xy(shape, points[:, 0], points[:, 1])
    points = points.copy()
    points[covered, 2] = np.minimum(points[covered, 2], 1.0)
    return points


def _in_frame(moth: Seen) -> Seen | None:
    """What of a moth is to be labelled; None when next to nothing shows."""
    shape = moth.shape.intersection(shapely.box(0, 0, WIDTH, HEIGHT))
    parts = [part for part in getattr(shape, "geoms", [shape]) if part.geom_type == "Polygon" and part.area > 30]
    if not parts or sum(part.area for part in parts) < 160:
        return None
    points = moth.keypoints.copy()
    out = (points[:, 0] < 0) | (points[:, 1] < 0) | (points[:, 0] >= WIDTH) | (points[:, 1] >= HEIGHT)
    points[out] = 0.0
    return Seen(moth.species, shapely.MultiPolygon(parts), points)
