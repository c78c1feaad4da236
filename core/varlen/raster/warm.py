"""Compiling every kernel once, so that nobody waits for it later. Run as a module by the set-up."""

from __future__ import annotations

import numpy as np

from varlen.geometry import rotation, scaling
from varlen.raster.blur import gaussian
from varlen.raster.fingerprint import fingerprint
from varlen.raster.masks import warp_mask
from varlen.raster.recolor import recolor
from varlen.raster.resample import halved, shrunk
from varlen.raster.warp import warp


def warm() -> None:
    """Call each kernel on a small picture; compiled code is kept on disk for the next process."""
    picture = np.zeros((32, 32, 3), np.uint8)
    out = np.empty_like(picture)
    warp(picture, rotation(5).then(scaling(1.1, 1.1)).inverse(), out, (0, 0, 32, 32), "mirror", (0, 0, 0))
    shrunk(picture, 24, 24)
    halved(picture)
    gaussian(picture, 1.0)
    recolor(out, (0, 0, 32, 32), (1.0, 0.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 0.0, 1.0, 0.0))
    warp_mask(np.ones((8, 8), np.uint8), 0, 0, rotation(5), (0, 0, 8, 8))
    fingerprint(picture)


if __name__ == "__main__":
    warm()
