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
from collections.abc import Iterable, Sequence
from typing import TypeVar

T = TypeVar("T")

_UNIT = 2.0**-53
_words = struct.Struct("<8Q").unpack


class Stream:
    """The random numbers of one step for one variant of one image.

    >>> Stream(20, "images/a.jpg", 1, "tilt").unit() == Stream(20, "images/a.jpg", 1, "tilt").unit()
    True
    """

    __slots__ = ("_block", "_name", "_waiting")

    def __init__(self, seed: int, image: str, variant: int, step: str) -> None:
        self._name = f"{seed}\x1f{image}\x1f{variant}\x1f{step}\x1f".encode("utf-8", "surrogatepass")
        self._block = 0
        self._waiting: list[int] = []

    def word(self) -> int:
        """The next 64 random bits."""
        if not self._waiting:
            self._waiting = list(reversed(_words(hashlib.blake2b(self._name + str(self._block).encode()).digest())))
            self._block += 1
        return self._waiting.pop()

    def unit(self) -> float:
        """A number in [0, 1), in steps of 2⁻⁵³."""
        return (self.word() >> 11) * _UNIT

    def uniform(self, low: float, high: float) -> float:
        """Evenly spread over [low, high], rounded so that it is short to write down."""
        return rounded(low + (high - low) * self.unit())

    def factor(self, low: float, high: float) -> float:
        """Evenly spread in the logarithm: halving and doubling are equally likely.

        Rounding also hides the last bit, in which `math.exp` may differ between machines.
        """
        a, b = math.log(low), math.log(high)
        return min(max(rounded(math.exp(a + (b - a) * self.unit())), low), high)

    def below(self, count: int) -> int:
        """A whole number in 0 … count − 1."""
        return int(self.unit() * count)

    def pick(self, options: Sequence[T]) -> T:
        """One of `options`, all equally likely."""
        return options[self.below(len(options))]


def rounded(value: float) -> float:
    """Six decimals: what is recorded in a trace is exactly what was used."""
    return round(value, 6) + 0.0


class Peers:
    """The images of one split, as a ring from which partners are drawn.

    Every image owns the arcs before its points on a ring of 64-bit numbers; a random
    number picks the image whose point follows it. So adding an image to the split changes
    only those picks that fall on its own arcs.
    """

    POINTS = 16

    def __init__(self, keys: Iterable[str]) -> None:
        ring = sorted(
            (int.from_bytes(hashlib.blake2b(f"{key}\x1f{n}".encode("utf-8", "surrogatepass"), digest_size=8).digest(), "big"), key)
            for key in keys
            for n in range(self.POINTS)
        )
        self._points = [point for point, _ in ring]
        self._keys = [key for _, key in ring]

    def __len__(self) -> int:
        return len(self._keys) // self.POINTS

    def pick(self, stream: Stream, other_than: str) -> str:
        """A partner for the image `other_than`; itself only if it is alone in its split."""
        index = bisect.bisect_left(self._points, stream.word())
        for step in range(len(self._keys)):
            key = self._keys[(index + step) % len(self._keys)]
            if key != other_than:
                return key
        return other_than
