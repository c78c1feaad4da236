"""Random numbers that depend on what they are for, and on nothing else.

Each (seed, image, variant, step) has a stream of its own: 64-bit words cut from the BLAKE2b
hashes of its name and a running block number. So no draw depends on workers, order or
batches, and taking a step out leaves the draws of all the others as they were.

A hash as counter generator needs no state to be set up and one call a block; keying a
generator such as NumPy's Philox anew for each of these short streams takes several times as
long. The words are turned into numbers here, with nothing that differs between platforms.
"""

from __future__ import annotations

import bisect
import hashlib
import math
import struct
from array import array
from collections.abc import Mapping, Sequence
from typing import TypeVar

T = TypeVar("T")

_UNIT = 2.0**-53
#: Keys of streams of their own stay below this: what every JSON reader can hold exactly.
MOST_KEY = 2**53
_words = struct.Struct("<8Q").unpack
_hash = hashlib.blake2b


class Stream:
    """The random numbers of one step for one variant of one image.

    >>> Stream(20, "images/a.jpg", 1, "tilt").unit() == Stream(20, "images/a.jpg", 1, "tilt").unit()
    True
    """

    __slots__ = ("_block", "_name", "_place", "_waiting")

    def __init__(self, seed: int, image: str, variant: int, step: str) -> None:
        self._name = f"{seed}\x1f{image}\x1f{variant}\x1f{step}\x1f".encode("utf-8", "surrogatepass")
        self._block = 0
        self._place = 8
        self._waiting: tuple[int, ...] = ()

    def word(self) -> int:
        """The next 64 random bits."""
        if self._place == 8:
            self._waiting = _words(_hash(self._name + b"%d" % self._block).digest())
            self._block += 1
            self._place = 0
        self._place += 1
        return self._waiting[self._place - 1]

    def unit(self) -> float:
        """A number in [0, 1), in steps of 2⁻⁵³."""
        place = self._place
        if place == 8:
            return (self.word() >> 11) * _UNIT
        self._place = place + 1
        return (self._waiting[place] >> 11) * _UNIT

    def uniform(self, low: float, high: float) -> float:
        """Evenly spread over [low, high], rounded so that it is short to write down."""
        return rounded(low + (high - low) * self.unit())

    def factor(self, low: float, high: float) -> float:
        """Evenly spread in the logarithm: halving and doubling are equally likely. A range from 0, which has none, is uniform.

        Rounding also hides the last bit, in which `math.exp` may differ between machines.
        """
        return factor_between(low, high, self.unit())

    def below(self, count: int) -> int:
        """A whole number in 0 … count − 1."""
        return int(self.unit() * count)

    def pick(self, options: Sequence[T]) -> T:
        """One of `options`, all equally likely."""
        return options[self.below(len(options))]


def factor_between(low: float, high: float, unit: float) -> float:
    """See `Stream.factor`."""
    if low == high:
        return low
    if low <= 0.0:
        return rounded(low + (high - low) * unit)
    a, b = math.log(low), math.log(high)
    return min(max(rounded(math.exp(a + (b - a) * unit)), low), high)


def rounded(value: float) -> float:
    """Six decimals: what is recorded in a trace is exactly what was used."""
    return round(value, 6) + 0.0


def _ring_point(name: str, number: int) -> int:
    """A 64-bit number that depends on a name alone."""
    return int.from_bytes(hashlib.blake2b(f"{name}\x1f{number}".encode("utf-8", "surrogatepass"), digest_size=8).digest(), "big")


class PartnerRing:
    """The images of one split, as a ring from which partners are drawn.

    Every group of images owns the arcs before its points on a ring of 64-bit numbers; a
    random number picks the group whose point follows it. So adding an image to the split
    changes only those picks that fall on its own arcs. A single image is a group of one.
    Within a larger group, such as the frames of a clip, the first image takes the first of
    the partner group, the second the second and so on, beginning again where that is shorter.
    """

    POINTS = 16

    def __init__(self, groups: Mapping[str, Sequence[str]]) -> None:
        self._ring(sorted(groups))
        # Most groups are of one image, which is their name.
        self._groups = {name: sorted(members) for name, members in groups.items() if [*members] != [name]}
        self._places = {image: (name, place) for name, members in self._groups.items() if len(members) > 1 for place, image in enumerate(members)}

    @classmethod
    def alone(cls, images: Sequence[str]) -> PartnerRing:
        """Every image a group of its own. images: sorted."""
        peers = cls({})
        peers._ring(images)
        return peers

    def _ring(self, names: Sequence[str]) -> None:
        import numpy as np  # here, so that what only draws needs no array library

        points = np.fromiter((_ring_point(name, n) for name in names for n in range(self.POINTS)), np.uint64, len(names) * self.POINTS)
        order = np.argsort(points, kind="stable")
        self._points = array("Q", points[order].tobytes())
        self._owners = array("I", (order // self.POINTS).astype(np.uint32).tobytes())
        self._names = names

    def __len__(self) -> int:
        return len(self._names)

    def pick(self, stream: Stream, other_than: str) -> str:
        """A partner for the image `other_than`; itself only if there is no other group in its split."""
        own, place = self._places.get(other_than, (other_than, 0))
        index = bisect.bisect_left(self._points, stream.word())
        for step in range(len(self._owners)):
            name = self._names[self._owners[(index + step) % len(self._owners)]]
            if name != own:
                members = self._groups.get(name, (name,))
                return members[place % len(members)]
        return other_than
