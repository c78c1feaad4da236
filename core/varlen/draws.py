"""Random numbers that depend on what they are for, and on nothing else.

Each (seed, image, variant, step) has a stream of its own: a Philox counter generator
whose key is a hash of the four. So no draw depends on workers, order or batches, and
taking a step out leaves the draws of all the others as they were.

Only raw 64-bit words are taken from the generator; they are turned into numbers here,
because NumPy promises the words for ever but not its distributions.
"""

from __future__ import annotations

import bisect
import hashlib
import math
import threading
from collections.abc import Iterable, Sequence
from typing import Any, TypeVar

import numpy as np

T = TypeVar("T")

_UNIT = 2.0**-53
_local = threading.local()


def _philox() -> tuple[np.random.Philox, Any]:
    """This thread's generator and a state to re-key it with (much cheaper than a new one)."""
    if not hasattr(_local, "philox"):
        _local.philox = np.random.Philox(key=0)
        _local.state = _local.philox.state
    return _local.philox, _local.state


class Stream:
    """The random numbers of one step for one variant of one image.

    A stream is used up at once by the step it was made for: making the next stream on
    the same thread re-keys the generator both share.

    >>> Stream(20, "images/a.jpg", 1, "tilt").unit() == Stream(20, "images/a.jpg", 1, "tilt").unit()
    True
    """

    __slots__ = ("_raw",)

    def __init__(self, seed: int, image: str, variant: int, step: str) -> None:
        name = f"{seed}\x1f{image}\x1f{variant}\x1f{step}".encode("utf-8", "surrogatepass")
        digest = hashlib.blake2b(name, digest_size=16).digest()
        philox, state = _philox()
        state["state"]["key"] = np.frombuffer(digest, np.dtype("<u8"))
        state["buffer_pos"] = 4
        philox.state = state
        self._raw = philox.random_raw

    def word(self) -> int:
        """The next 64 random bits."""
        return int(self._raw())

    def unit(self) -> float:
        """A number in [0, 1), in steps of 2⁻⁵³."""
        return (int(self._raw()) >> 11) * _UNIT

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
