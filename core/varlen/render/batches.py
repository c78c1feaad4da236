"""Batches made in processes of their own, ahead of the training loop, for those without a loader.

Which samples are in which batch, and what they look like, depends on seed and epoch alone: processes only make them sooner.
"""

from __future__ import annotations

import shutil
import signal
import tempfile
import threading
import time
import weakref
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from multiprocessing.connection import wait
from typing import TYPE_CHECKING, Any, Literal

from varlen.draws import Stream
from varlen.errors import VarlenError
from varlen.executors import processes
from varlen.render.batch import Batch, batch
from varlen.render.handover import Parcel, memory_folder, packed, unpacked
from varlen.steps.own_step import all_importable

if TYPE_CHECKING:
    from varlen.render.samples import Samples

MOST_WORKERS = 256
#: How long a worker may take to finish its batch when the rest is no longer wanted, seconds.
LONGEST_END_S = 5.0
#: The samples a worker process makes batches of; set when it begins.
_SAMPLES: list[Samples] = []


class Batches:
    """The batches of an epoch, in order. Made by `Samples.batches`; going through it again gives those of the epoch that was set since.

    Worker processes live until `close`, or until nothing refers to this.
    """

    def __init__(
        self, samples: Samples, size: int, workers: int, shuffle: bool, drop_last: bool, boxes: Literal["padded", "ragged"], ahead: int
    ) -> None:
        if size < 1 or not 0 <= workers <= MOST_WORKERS or ahead < 1:
            raise VarlenError(f"batches: size {size} and ahead {ahead} must be above 0, workers {workers} from 0 to {MOST_WORKERS}")
        self.samples, self.size, self.workers, self.shuffle, self.drop_last, self.boxes, self.ahead = (
            samples, size, workers, shuffle, drop_last, boxes, ahead)  # fmt: skip
        self._pool: ProcessPoolExecutor | None = None
        self._folder = ""

    def __len__(self) -> int:
        whole, rest = divmod(len(self.samples), self.size)
        return whole + (rest > 0 and not self.drop_last)

    def __iter__(self) -> Iterator[Batch]:
        """Each batch in turn; those of one pass are all of the epoch in which it began."""
        epoch = self.samples.epoch
        parts = list(self._parts(epoch))
        if self.workers == 0:
            return (made_batch(self.samples, part, epoch, self.boxes) for part in parts)
        return self._from_workers(parts, epoch)

    def _parts(self, epoch: int) -> Iterator[list[int]]:
        order = self._order(epoch)
        for start in range(0, len(order), self.size):
            part = order[start : start + self.size]
            if len(part) == self.size or not self.drop_last:
                yield part

    def _order(self, epoch: int) -> list[int]:
        """Numbers of samples, drawn from seed and epoch where they are shuffled."""
        numbers = list(range(len(self.samples)))
        if not self.shuffle:
            return numbers
        stream = Stream(self.samples.pipeline.seed, "", epoch, "order")
        return [number for _, number in sorted((stream.word(), number) for number in numbers)]

    def _from_workers(self, parts: list[list[int]], epoch: int) -> Iterator[Batch]:
        waiting: deque[Future[Parcel]] = deque()
        coming = iter(parts)
        try:
            for part in coming:
                with _uninterrupted():
                    waiting.append(self._started().submit(_made_here, part, epoch, self.boxes, self._folder))
                if len(waiting) >= self.workers * self.ahead:
                    yield unpacked(waiting.popleft().result())
            while waiting:
                yield unpacked(waiting.popleft().result())
        except BrokenProcessPool:
            self.close()
            raise VarlenError("batches: a worker process ended; there may be too little memory: try fewer workers or smaller batches") from None
        except BaseException:  # also when whoever takes the batches stops early, or Ctrl-C
            with _uninterrupted():
                for future in waiting:
                    future.cancel()
                self.close()
            raise

    def _started(self) -> ProcessPoolExecutor:
        if self._pool is None:
            forked = not all_importable(self.samples.pipeline.all_steps())
            self._folder = tempfile.mkdtemp(prefix="varlen-batches-", dir=memory_folder())
            self._pool = processes(self.workers, _begin, (self.samples,), forked)
            self._end = weakref.finalize(self, _end, self._pool, self._folder)
        return self._pool

    def close(self) -> None:
        """End the worker processes."""
        if self._pool is not None:
            self._pool = None
            self._end()

    def __enter__(self) -> Batches:
        return self

    def __exit__(self, *error: object) -> None:
        self.close()


@contextmanager
def _uninterrupted() -> Iterator[None]:
    """Ctrl-C waits until this is done: within the pool's own locks, and in a worker that has only just begun, it would leave them held."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    noted: list[int] = []
    before = signal.signal(signal.SIGINT, lambda number, frame: noted.append(number))
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)
        if noted:
            signal.raise_signal(signal.SIGINT)


def made_batch(samples: Samples, numbers: list[int], epoch: int, boxes: Literal["padded", "ragged"]) -> Batch:
    """One batch of one epoch."""
    return batch([samples.sample(number, epoch) for number in numbers], boxes)


def _begin(samples: Samples) -> None:
    """A worker: Ctrl-C is for the one who reads the batches, who then ends all workers."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    _SAMPLES[:] = [samples]


def _end(pool: ProcessPoolExecutor, folder: str) -> None:
    """Let workers finish what they are at; whichever takes too long is ended. None is left when this returns."""
    manager: Any = pool._executor_manager_thread  # it waits for the processes: a second one who waits for them may be told too early that they live
    running: dict[Any, Any] = {worker.sentinel: worker for worker in (pool._processes or {}).values()}
    pool.shutdown(wait=False, cancel_futures=True)
    last = time.monotonic() + LONGEST_END_S
    while running and (ended := wait(list(running), max(0.0, last - time.monotonic()))):
        for sentinel in ended:
            del running[sentinel]
    for worker in running.values():
        worker.kill()
    if manager is not None and manager is not threading.current_thread():
        manager.join()
    shutil.rmtree(folder, ignore_errors=True)


def _made_here(numbers: list[int], epoch: int, boxes: Any, folder: str) -> Parcel:
    return packed(made_batch(_SAMPLES[0], numbers, epoch, boxes), folder)
