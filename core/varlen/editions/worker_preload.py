"""Importing this starts what takes long to start, so that processes forked afterwards begin at once."""

from __future__ import annotations

import numpy as np

import varlen.editions.chunks
from varlen.kernels.warp_affine import warp
from varlen.model.geometry import rotation

# One kernel loads the compiler's library; the others follow in milliseconds when they are needed.
_picture = np.zeros((16, 16, 3), np.uint8)
warp(_picture, rotation(5), np.empty_like(_picture), (0, 0, 16, 16), "solid", (0, 0, 0))
__all__ = ["varlen"]
