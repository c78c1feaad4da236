"""Source pictures: kept decoded, and made smaller before a move that shrinks them, as far as that gains something."""

from __future__ import annotations

import math
import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable

from varlen.kernels.warp_affine import Pixels
from varlen.model.effects import Bends
from varlen.model.geometry import IDENTITY, Matrix, Size, scaling
from varlen.pipeline.plan import Resample


class PictureCache:
    """Decoded pictures, up to a number of bytes, least recently used out first. Safe among threads."""

    def __init__(self, most_bytes: int = 256 << 20) -> None:
        self.most = most_bytes
        self._held: OrderedDict[Hashable, Pixels] = OrderedDict()
        self._bytes = 0
        self._lock = threading.Lock()

    def __reduce__(self) -> tuple[type[PictureCache], tuple[int]]:
        """An empty one: another process decodes for itself."""
        return PictureCache, (self.most,)

    def get(self, key: Hashable, make: Callable[[], Pixels]) -> Pixels:
        """The picture kept under `key`, made when it is not there. Not to be written to."""
        with self._lock:
            if key in self._held:
                self._held.move_to_end(key)
                return self._held[key]
        picture = make()
        with self._lock:
            if key not in self._held:
                self._held[key] = picture
                self._bytes += picture.nbytes
            while self._bytes > self.most and len(self._held) > 1:
                self._bytes -= self._held.popitem(last=False)[1].nbytes
        return picture


#: Shrinking by more than this in one bilinear step would alias.
MILD = 0.84


def _stretch(matrix: Matrix) -> tuple[float, float]:
    """How long one pixel's width and height become."""
    return math.hypot(matrix.a, matrix.d), math.hypot(matrix.b, matrix.e)


def stretch(run: Resample) -> tuple[float, float]:
    """How long one pixel's width and height become at most."""
    if not run.bends and run.matrix.affine:
        return _stretch(run.matrix)
    factor = math.sqrt(max(abs(run.members[-1].area_factor(x, y)) for x, y in IDENTITY.quad(run.before.rect)))
    return factor, factor


def smaller_size(size: Size, factors: tuple[float, float]) -> Size | None:
    """The size to which a picture is made smaller before a move that shrinks it; None where that would gain nothing."""
    across, down = factors
    if across >= MILD and down >= MILD:
        return None
    return Size(max(1, round(size.width * _level(across))), max(1, round(size.height * _level(down))))


def after_shrinking(run: Resample, before: Size, size: Size) -> tuple[Bends, Matrix]:
    """What is left of a move when the picture was made smaller, from `before` to `size`."""
    larger = scaling(before.width / size.width, before.height / size.height)
    bends = tuple((larger.then(each) if place == 0 else each, field) for place, (each, field) in enumerate(run.bends))
    return bends, run.matrix if bends else larger.then(run.matrix)


def _level(factor: float) -> float:
    """The quarter octave at or above a shrinking factor, so that variants can share it."""
    return 1.0 if factor >= MILD else 2.0 ** (-math.floor(-4.0 * math.log2(factor)) / 4.0)
