"""Compiling every kernel once, so that nobody waits for it later; compiled code is kept on disk for the next process.

    python -m varlen.render.precompile [--first | --rest]

With --first only what the demo's first contact sheet needs; the set-up does the rest once there is something to look at, or beside it.
"""

from __future__ import annotations

import sys

import numpy as np

from varlen.kernels.bends import backward, forward
from varlen.kernels.blur import gaussian, motion_blur, sharpen
from varlen.kernels.camera import add_noise, jpeg_artifacts, random_levels, relight
from varlen.kernels.compositing import blend
from varlen.kernels.detail_energy import block_details
from varlen.kernels.equalize import equalize
from varlen.kernels.label_transforms import (
    ShapeArrays,
    exposed_share,
    moved_keypoints,
    reaches_out,
    responsible_members,
    shares_left,
    transform_shapes,
)
from varlen.kernels.outlines import clipped_ring
from varlen.kernels.pixel_digest import pixel_digest
from varlen.kernels.recolor import MANY, recolor
from varlen.kernels.resample import halved, shrunk
from varlen.kernels.warp_affine import warp
from varlen.kernels.warp_bands import nearest_places, warp_bands
from varlen.kernels.warp_mapped import warp_mapped
from varlen.kernels.warp_masks import warp_labels, warp_mask
from varlen.model.effects import Curve, DisplacementField, Recolor
from varlen.model.geometry import Size, rotation, scaling
from varlen.model.objects import Mask, make_objects
from varlen.shapes.polygons import mask_from_polygon, polygon_from_mask
from varlen.shapes.rle import encode, expand, tight_mask_of


def for_first_sheet() -> None:
    """Kernels of straight warps, colors, digests and shapes, each called on a small picture."""
    picture = np.zeros((32, 32, 3), np.uint8)
    out = np.empty_like(picture)
    frame = (0, 0, 32, 32)
    turn = rotation(5).then(scaling(1.1, 1.1))
    warp(picture, turn.inverse(), out, frame, "mirror", (0, 0, 0))
    shrunk(picture, 24, 24)
    halved(picture)
    for matrix in ((), (Recolor.gains(1.0, 1.0, 1.0),)):
        recolor(out, frame, (*matrix, Curve(bytes(256))))
    recolor(out, frame, (Recolor.gains(1.0, 1.0, 1.0),))
    gaussian(picture, 1.0)
    add_noise(picture, 2.0, 1, True)
    pixel_digest(picture)
    mask = Mask(4, 4, np.ones((8, 8), np.uint8))
    warp_mask(mask.pixels, 0, 0, (), rotation(5), (0, 0, 8, 8))
    polygon = polygon_from_mask(mask)
    mask_from_polygon(polygon)
    clipped_ring(polygon[0].outline, (0.0, 0.0, 6.0, 6.0))
    objects = make_objects(["1"], "", [0], [[0, 0, 8, 8]], [polygon], [None], [[]], [False], [{}])
    transform_shapes(ShapeArrays.of(objects, objects.outlines, False), np.eye(3).reshape(1, 9), np.array([[0.0, 0.0, 8.0, 8.0]]))
    responsible_members(shares_left(np.eye(3).reshape(1, 9), objects.boxes, objects.boxes), np.ones(1))
    reaches_out(np.zeros(4), 8.0, 8.0)
    moved_keypoints(np.zeros((1, 1, 3)), rotation(5), (0.0, 0.0, 8.0, 8.0), None)
    exposed_share(rotation(5), Size(8, 8), (0.0, 0.0, 8.0, 8.0))
    tight_mask_of(expand(encode(mask.pixels, 4, 4, (32, 32))), 32, 32)


def for_everything_else() -> None:
    """Bends, label maps, large pictures, and the steps that the demo's own pipeline does not have."""
    picture = np.zeros((32, 32, 3), np.uint8)
    out = np.empty_like(picture)
    frame = (0, 0, 32, 32)
    turn = rotation(5).then(scaling(1.1, 1.1))
    bend = ((rotation(5), DisplacementField(Size(32, 32), 8.0, 1.0, 1)),)
    warp_mapped(picture, bend, turn, out, frame, "solid", (0, 0, 0))
    # Large factors and large pictures go other ways.
    recolor(out, frame, (Recolor.gains(4.0, 1.0, 1.0), Curve(bytes(256))))
    large = np.zeros((MANY // 256 + 1, 256, 3), np.uint8)
    for matrix in ((), (Recolor.gains(1.0, 1.0, 1.0),)):
        recolor(large, (0, 0, 256, len(large)), (*matrix, Curve(bytes(256))))
    for change in (
        lambda: sharpen(picture, 1.0), lambda: motion_blur(picture, 4.0, 30.0), lambda: random_levels(4, 1), lambda: jpeg_artifacts(picture, 50),
        lambda: equalize(picture, 2, 2.0), lambda: relight(picture, 0.2, 0.0, []), lambda: blend(picture, picture, 0.5),
        lambda: block_details(picture, 4),
    ):  # fmt: skip
        change()
    mask = Mask(4, 4, np.ones((8, 8), np.uint8))
    warp_mask(mask.pixels, 0, 0, bend, rotation(5), (0, 0, 8, 8))
    warp_labels(mask.pixels, (), rotation(5), np.empty((8, 8), np.uint8), (0, 0, 8, 8), "mirror", 255)
    for bends in ((), bend):
        nearest_places(32, 32, bends, turn, (32, 32), frame, "mirror")
        warp_bands(np.zeros((32, 32, 3)), bends, turn, np.zeros((32, 32, 3)), frame, "mirror", 0.0)
    forward(backward(polygon_from_mask(mask)[0].outline, bend[0][1]), bend[0][1])


if __name__ == "__main__":
    if "--rest" not in sys.argv:
        for_first_sheet()
    if "--first" not in sys.argv:
        for_everything_else()
