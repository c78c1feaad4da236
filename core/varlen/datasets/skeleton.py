"""Keypoint names, the lines drawn between them, and which change places in a mirror image."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from varlen.errors import ArrayError


@dataclass(frozen=True, slots=True)
class Skeleton:
    """Keypoint names and the lines drawn between them, as pairs of places.

    partners: for each keypoint the one it becomes in a mirror image; default: derived from the names. Raises `ArrayError` for a line to a
    keypoint that is not there.

    >>> import varlen as v
    >>> v.Skeleton(names=("head", "left wing", "right wing"), edges=((0, 1), (0, 2))).swap().tolist()
    [0, 2, 1]
    """

    names: tuple[str, ...] = ()
    edges: tuple[tuple[int, int], ...] = ()
    partners: tuple[int, ...] = ()

    def __post_init__(self) -> None:
        for a, b in self.edges:
            if not (0 <= a < len(self.names) and 0 <= b < len(self.names)):
                raise ArrayError(f"skeleton: the line {a}-{b} leaves the {len(self.names)} keypoints, which are counted from 0")

    def swap(self) -> NDArray[np.int64]:
        """For each keypoint the one it becomes in a mirror image: left … and right … change places."""
        if self.partners:
            return np.array(self.partners, np.int64)
        places = {name: place for place, name in enumerate(self.names)}
        found = [next((places[other] for other in other_sides(name) if other in places), place) for place, name in enumerate(self.names)]
        # Only pairs of which each names the other.
        return np.array([other if found[other] == place else place for place, other in enumerate(found)], np.int64)

    def unpaired(self) -> list[str]:
        """Names that speak of a side and have no partner."""
        swap = self.swap().tolist()
        alone = [name for place, name in enumerate(self.names) if swap[place] == place]
        # Glued to another word it may mean nothing (leftover), unless sides are spoken of elsewhere.
        sided = len(alone) < len(self.names) or sum(map(speaks_of_side, self.names)) > 1
        return [name for name in alone if re.search(_SIDE_WORD, name, re.IGNORECASE) or (sided and speaks_of_side(name))]


def numbered_points(count: int) -> Skeleton:
    """A skeleton for keypoints that nobody named."""
    return Skeleton(tuple(f"point {number}" for number in range(1, count + 1)))


def mirror_pairs(skeleton: Skeleton) -> list[list[str]]:
    """The names of the keypoints that a mirror exchanges, pair by pair."""
    return [[skeleton.names[a], skeleton.names[b]] for a, b in enumerate(skeleton.swap().tolist()) if a < b and b < len(skeleton.names)]


def other_sides(name: str) -> Iterator[str]:
    """What the other side's keypoint may be called: left for right anywhere, then l for r as a word, then at an end, in their own case."""
    for match in re.finditer("left|right", name, re.IGNORECASE):
        yield name[: match.start()] + _like(match.group(), "right" if match.group().lower() == "left" else "left") + name[match.end() :]
    for pattern in (_WORD, _END):
        for match in re.finditer(pattern, name):
            yield name[: match.start()] + {"l": "r", "r": "l", "L": "R", "R": "L"}[match.group()] + name[match.end() :]


def speaks_of_side(name: str) -> bool:
    """Whether a name says left or right, as a word or glued to one, or l or r as a word."""
    return bool(re.search("left|right", name, re.IGNORECASE) or re.search(_WORD, name))


_SIDE_WORD = r"(?<![a-z])(left|right)(?![a-z])"
#: l or r by itself: between separators, or before a capital letter at the beginning, or as a capital after a small letter.
_WORD = r"(?<![A-Za-z])[lrLR](?![A-Za-z])|^[lr](?=[A-Z])|(?<=[a-z])[LR]$"
#: l or r glued to either end.
_END = r"^[lrLR](?=[A-Za-z])|(?<=[A-Za-z])[lrLR]$"


def _like(model: str, word: str) -> str:
    """A word in the case of another."""
    return word.upper() if model.isupper() else word.capitalize() if model[0].isupper() else word
