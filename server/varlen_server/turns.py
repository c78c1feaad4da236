"""Whose request is next: people take turns, so that nobody waits behind another's hundred."""

from __future__ import annotations

from collections import Counter, OrderedDict, deque
from typing import Generic, TypeVar

T = TypeVar("T")
#: So many at once anyone may have, however many others there are: a page asks for several things.
AT_LEAST = 3


class Turns(Generic[T]):
    """Things to be done by a number of threads, each somebody's. Used from one thread alone."""

    def __init__(self, threads: int) -> None:
        self.threads = threads
        self.running: Counter[str] = Counter()
        self._waiting: OrderedDict[str, deque[T]] = OrderedDict()

    @property
    def waiting(self) -> bool:
        """Whether something waits for a thread; may be asked from any."""
        return bool(self._waiting)

    def add(self, who: str, thing: T) -> None:
        """Put something at the end of somebody's own queue."""
        self._waiting.setdefault(who, deque()).append(thing)

    def next(self) -> tuple[str, T] | None:
        """What is to be done next and whose it is; None when every thread is taken, or all who wait have their share."""
        if self.running.total() >= self.threads:
            return None
        share = max(AT_LEAST, self.threads // max(1, len(self.running.keys() | self._waiting.keys())))
        for who in self._waiting:
            if self.running[who] < share:
                return who, self._take(who)
        return None

    def _take(self, who: str) -> T:
        queue = self._waiting.pop(who)
        thing = queue.popleft()
        if queue:
            self._waiting[who] = queue  # behind everybody else
        self.running[who] += 1
        return thing

    def done(self, who: str) -> None:
        """One of somebody's things is done."""
        self.running[who] -= 1
        if self.running[who] <= 0:
            del self.running[who]
