"""Keypoint names, the lines drawn between them, and which change places in a mirror image."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True, slots=True)
class Skeleton:
    """Keypoint names and the lines drawn between them, as pairs of places.

    partners: for each keypoint the one it becomes in a mirror image; default: derived from the names.
    """

    names: tuple[str, ...] = ()
    edges: tuple[tuple[int, int], ...] = ()
    partners: tuple[int, ...] = ()

    def swap(self) -> NDArray[np.int64]:
        """For each keypoint the one it becomes in a mirror image: left … and right … change places."""
        if self.partners:
            return np.array(self.partners, np.int64)
        places = {name: place for place, name in enumerate(self.names)}
        return np.array([places.get(_other_side(name), place) for place, name in enumerate(self.names)], np.int64)


def _other_side(name: str) -> str:
    sides = {"left": "right", "right": "left", "Left": "Right", "Right": "Left"}
    return re.sub(r"(?<![A-Za-z])(left|right|Left|Right)(?![a-z])", lambda match: sides[match.group(1)], name, count=1)
