"""Colors of classes: sixteen that differ in lightness beside hue.

The smallest distance of any two in OKLab (Ottosson, 2020) is 0.065, for people with all three kinds of cones and without one of them
(simulated after Machado, Oliveira and Fernandes, 2009); 0.02 is just noticeable. The screens use the same list (web/src/picture/class-colors.ts).
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.dataset import Dataset
from varlen.kernels.resample import shrunk
from varlen.kernels.warp_affine import Pixels
from varlen.model.geometry import Size
from varlen.model.objects import Objects
from varlen.render.renderer import Renderer
from varlen.shapes.polygons import rings_of

CLASS_COLORS = (
    (0x55, 0xBB, 0xEE), (0xEE, 0xBB, 0x00), (0xCC, 0x66, 0x11), (0x99, 0xFF, 0xFF), (0x55, 0x22, 0xFF), (0xDD, 0xFF, 0x11), (0x66, 0x88, 0xFF),
    (0xEE, 0x88, 0x55), (0xBB, 0xDD, 0x99), (0xBB, 0x77, 0x88), (0x77, 0xDD, 0xFF), (0xDD, 0x99, 0xAA), (0xAA, 0x33, 0x77), (0x99, 0x66, 0xBB),
    (0x99, 0x22, 0xBB), (0xBB, 0x11, 0x00),
)  # fmt: skip


PAPER = (38, 38, 38)
GAP = 8


def contact_sheet(renderer: Renderer, images: list[str], variants: int, tile: int = 240) -> Pixels:
    """Rows of tiles `tile` px wide on neutral gray, (H, W, 3) uint8."""
    dataset = renderer.dataset
    rows = []
    for image in images:
        entry = dataset.entries[image]
        tiles = [drawn_tile(dataset, renderer.source(image), entry.objects, tile)]
        for variant in range(1, variants + 1):
            sample, _ = renderer.render(image, variant)
            tiles.append(drawn_tile(dataset, sample.pixels, sample.objects, tile))
        rows.append(tiles)
    return stacked(rows)


def stacked(rows: Sequence[Sequence[Pixels]]) -> Pixels:
    """Rows of tiles one above the other on neutral gray, (H, W, 3) uint8."""
    made = [_side_by_side(row) for row in rows]
    sheet = np.empty((sum(len(row) for row in made) + GAP * (len(made) + 1), max(row.shape[1] for row in made), 3), np.uint8)
    sheet[:] = PAPER
    top = GAP
    for row in made:
        sheet[top : top + len(row), : row.shape[1]] = row
        top += len(row) + GAP
    return sheet


def drawn_tile(dataset: Dataset, pixels: Pixels, objects: Objects, width: int) -> Pixels:
    """A picture at `width` px with its boxes, outlines and keypoints drawn on it."""
    size = Size(pixels.shape[1], pixels.shape[0])
    factor = width / size.width
    picture = shrunk(np.ascontiguousarray(pixels), width, max(1, round(size.height * factor)))
    polygons, alone = objects.polygons, objects.oriented.only()
    polygons = tuple(None if place in alone else polygon for place, polygon in enumerate(polygons)) if alone else polygons
    for place in range(len(objects)):
        color = CLASS_COLORS[int(objects.classes[place]) % len(CLASS_COLORS)]
        turned = objects.oriented.of_object(place)
        x0, y0, x1, y1 = objects.boxes[place].tolist()
        corners = np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]]) if turned is None else turned
        draw_line(picture, np.concatenate([corners, corners[:1]]) * factor, color, 0.75)
        for ring in rings_of(polygons[place] or ()):
            draw_line(picture, np.concatenate([ring, ring[:1]]) * factor, color, 0.5)
        points = objects.keypoints[place]
        for start, end in dataset.skeleton.edges:
            if points[start, 2] > 0 and points[end, 2] > 0:
                draw_line(picture, points[[start, end], :2] * factor, (255, 255, 255), 0.4)
        for x, y, visibility in points.tolist():
            if visibility > 0:
                draw_line(picture, np.array([[x, y], [x, y]]) * factor, (255, 255, 255), 1.6)
    return picture


def draw_line(picture: Pixels, points: NDArray[np.float64], color: tuple[int, int, int], reach: float) -> None:
    """A smooth line of half width `reach` px through points (N, 2), blended into the picture."""
    height, width = picture.shape[:2]
    for (x0, y0), (x1, y1) in zip(points[:-1].tolist(), points[1:].tolist(), strict=True):
        margin = reach + 1.0
        left, right = int(max(min(x0, x1) - margin, 0)), int(min(max(x0, x1) + margin + 1, width))
        top, bottom = int(max(min(y0, y1) - margin, 0)), int(min(max(y0, y1) + margin + 1, height))
        if left >= right or top >= bottom:
            continue
        x = np.arange(left, right)[None, :] + 0.5 - x0
        y = np.arange(top, bottom)[:, None] + 0.5 - y0
        dx, dy = x1 - x0, y1 - y0
        t = np.clip((x * dx + y * dy) / max(dx * dx + dy * dy, 1e-12), 0.0, 1.0)
        cover = np.clip(reach + 0.5 - np.hypot(x - t * dx, y - t * dy), 0.0, 1.0)[:, :, None]
        part = picture[top:bottom, left:right]
        part[...] = (part * (1.0 - cover) + np.array(color) * cover + 0.5).astype(np.uint8)


def _side_by_side(tiles: Sequence[Pixels]) -> Pixels:
    height = max(len(tile) for tile in tiles)
    row = np.empty((height, sum(tile.shape[1] for tile in tiles) + GAP * (len(tiles) + 1), 3), np.uint8)
    row[:] = PAPER
    left = GAP
    for tile in tiles:
        row[: len(tile), left : left + tile.shape[1]] = tile
        left += tile.shape[1] + GAP
    return row
