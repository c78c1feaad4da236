"""A quicker decoder for the commonest files, used where it gives the very pixels that Pillow gives.

A plain JPEG (8 bits, luminance and two color differences) is decoded by libjpeg-turbo without Pillow around it. Everything else
about a JPEG stays Pillow's: CMYK, gray, damage, and coding, which that package does with another transform below quality 96.
"""

from __future__ import annotations

import numpy as np
import simplejpeg
from numpy.typing import NDArray
from PIL import Image


def decode_jpeg(data: bytes, opened: Image.Image) -> NDArray[np.uint8] | None:
    """The pixels of a plain JPEG, (H, W, 3) uint8, as stored; None where Pillow is to decode it.

    opened: the file as Pillow has read its header.
    """
    if opened.format != "JPEG" or opened.mode != "RGB" or opened.info.get("adobe_transform", 1) != 1:
        return None
    try:
        found: NDArray[np.uint8] = simplejpeg.decode_jpeg(data, "RGB", fastdct=False, fastupsample=False)
    except ValueError:  # damaged, or odd in a way that Pillow may understand
        return None
    return found if found.shape == (opened.height, opened.width, 3) else None
