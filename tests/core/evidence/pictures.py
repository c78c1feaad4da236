"""Pictures of many kinds, rendered: what is measured must depend little on what they show."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from varlen.demo.scene import photograph

#: Height and width.
Size = tuple[int, int]
SIZE: Size = (480, 640)
Pixels = NDArray[np.uint8]


def _spectrum(rng: np.random.Generator, power: float, size: Size) -> NDArray[np.float64]:
    """A random field whose power falls with frequency to `power`, (H, W), mean 0, deviation 1."""
    height, width = size
    y, x = np.fft.fftfreq(height)[:, None], np.fft.rfftfreq(width)[None, :]
    frequency = np.hypot(y, x)
    frequency[0, 0] = 1.0
    noise = rng.standard_normal(frequency.shape) + 1j * rng.standard_normal(frequency.shape)
    noise[0, 0] = 0.0
    field = np.fft.irfft2(noise * frequency ** (-power / 2), s=(height, width))
    return np.asarray(field / field.std())


def clouds(rng: np.random.Generator, size: Size = SIZE) -> NDArray[np.float64]:
    shared, own = _spectrum(rng, 2.0, size), [_spectrum(rng, 2.0, size) for _ in range(3)]
    return np.stack([120 + rng.uniform(-25, 25) + 34 * shared + 10 * each for each in own], axis=2)


def leaves(rng: np.random.Generator, size: Size = SIZE) -> NDArray[np.float64]:
    """Disks of many sizes over one another."""
    height, width = size
    picture = np.full((height * 2, width * 2, 3), 110.0)
    y, x = np.mgrid[0 : height * 2, 0 : width * 2]
    for _ in range(420):
        radius = min(9.0 / np.sqrt(rng.random() + 1e-3), 220)
        cx, cy = rng.uniform(0, width * 2), rng.uniform(0, height * 2)
        top, left = int(max(cy - radius, 0)), int(max(cx - radius, 0))
        part = np.s_[top : int(cy + radius) + 1, left : int(cx + radius) + 1]
        inside = (x[part] - cx) ** 2 + (y[part] - cy) ** 2 < radius**2
        picture[part][inside] = rng.uniform(35, 215, 3) * 0.5 + rng.uniform(35, 215) * 0.5
    return picture.reshape(height, 2, width, 2, 3).mean(axis=(1, 3))


def walls(rng: np.random.Generator, size: Size = SIZE) -> NDArray[np.float64]:
    """Bricks and windows with texture, seen at a slight angle."""
    height, width = size
    y, x = np.mgrid[0:height, 0:width].astype(np.float64)
    angle = rng.uniform(-0.15, 0.15)
    u, v = x * np.cos(angle) - y * np.sin(angle), x * np.sin(angle) + y * np.cos(angle)
    row = np.floor(v / 22)
    joint = np.minimum(np.abs((u + (row % 2) * 26) % 52 - 26), 26) > 24
    joint |= (v % 22) < 2
    tone = 120 + 25 * np.sin(row * 12.9898 + np.floor((u + (row % 2) * 26) / 52) * 78.233) + 7 * _spectrum(rng, 1.6, size)
    tone[joint] = 185
    return np.stack([tone * 1.1, tone * 0.85, tone * 0.75], axis=2)


def page(rng: np.random.Generator, size: Size = SIZE) -> NDArray[np.float64]:
    """Dark marks in lines on paper, under uneven light."""
    height, width = size
    y, x = np.mgrid[0:height, 0:width].astype(np.float64)
    ink = (_spectrum(rng, 1.0, size) > 0.4) & ((y % 18) < 11) & (x > 40) & (x < width - 40)
    light = 175 + 35 * (x / width - 0.5)
    tone = np.where(ink, 50.0, light) + 2 * _spectrum(rng, 1.5, size)
    return np.stack([tone, tone * 0.98, tone * 0.92], axis=2)


def hills(rng: np.random.Generator, size: Size = SIZE) -> NDArray[np.float64]:
    """Sky over a rough ground."""
    height, width = size
    y = np.mgrid[0:height, 0:width][0].astype(np.float64)
    edge = height * 0.45 + 60 * ndimage.gaussian_filter1d(rng.standard_normal(width), 40) / 0.1
    ground = y > edge[None, :]
    sky = np.stack([120 + y / 8, 150 + y / 9, 205 - y / 12], axis=2) + 3 * _spectrum(rng, 3.0, size)[..., None]
    soil = np.stack([95 + 26 * _spectrum(rng, 1.7, size), 100 + 22 * _spectrum(rng, 1.7, size), np.full_like(y, 55.0)], axis=2)
    return np.where(ground[..., None], soil, sky)


def _seen(picture: NDArray[np.float64], rng: np.random.Generator) -> Pixels:
    """Through a lens that is a little soft, by a sensor with a little grain."""
    soft = ndimage.gaussian_filter(picture, (0.55, 0.55, 0))
    return np.clip(soft + rng.standard_normal(soft.shape) * 0.8 + 0.5, 0, 255).astype(np.uint8)


@lru_cache(maxsize=1)
def varied() -> tuple[Pixels, ...]:
    """A dozen pictures, two or three of each kind."""
    found = []
    for number, kind in enumerate((clouds, leaves, walls, page, hills) * 2):
        rng = np.random.default_rng([31, number])
        found.append(_seen(kind(rng), rng))
    return (*found, *(np.ascontiguousarray(photograph(77, number)[0][120:600, 160:800]) for number in range(2)))
