"""Decoded pictures kept for their next variant."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable

from varlen.kernels.warp_affine import Pixels


class PictureCache:
    """Decoded pictures, up to a number of bytes, least recently used out first. Safe among threads."""

    def __init__(self, most_bytes: int = 256 << 20) -> None:
        self.most = most_bytes
        self._held: OrderedDict[Hashable, Pixels] = OrderedDict()
        self._bytes = 0
        self._lock = threading.Lock()

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
