"""How long the rest of some work will take."""

from __future__ import annotations

import time

#: Of the work, so much must be done before anything is said: at first there is reading, starting up and compiling in the time.
TOLD_FROM = 0.1


class TimeLeft:
    """An estimate from the pace since the first part was done. Nothing before a tenth is done."""

    def __init__(self) -> None:
        self._first: tuple[float, float] | None = None

    def after(self, share: float) -> float | None:
        """Seconds left when `share` (0 … 1) is done; None where it is too early to say."""
        now = time.monotonic()
        if self._first is None:
            if share > 0:
                self._first = now, share
            return None
        begun, before = self._first
        if share < TOLD_FROM or share <= before:
            return None
        return (now - begun) / (share - before) * (1 - share)
