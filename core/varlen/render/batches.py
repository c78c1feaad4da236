"""One sample as arrays, and several as one."""

from __future__ import annotations

import pickle
import shutil
import signal
import tempfile
import threading
import time
import weakref
from collections import deque
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from multiprocessing.connection import wait
from typing import TYPE_CHECKING, Any, Literal, NotRequired, TypedDict, cast

import numpy as np
from numpy.typing import NDArray

from varlen.draws import Stream
from varlen.errors import VarlenError
from varlen.executors import processes
from varlen.render.shared_epoch import ChunkResult, memory_folder, packed, unpacked
from varlen.steps.own_step import all_importable

if TYPE_CHECKING:
    from varlen.render.samples import Samples


class _Parts(TypedDict):
    """What a sample and a batch both hold."""

    image: NDArray[Any]
    boxes: NDArray[np.float32]
    classes: NDArray[np.int64]
    keypoints: NDArray[np.float32]
    crowd: NDArray[np.bool_]
    image_classes: NDArray[np.float32]
    label_map: NotRequired[NDArray[np.uint8]]
    masks: NotRequired[NDArray[np.bool_]]
    oriented: NotRequired[NDArray[np.float32]]


class Sample(_Parts):
    """One sample as arrays (see `Samples.sample`). polygons: for each object its rings, None without."""

    polygons: list[list[NDArray[np.float32]] | None]
    key: str
    variant: int


class Batch(_Parts):
    """Several samples as one (see `batch`). counts: of padded batches; starts: of ragged ones."""

    polygons: list[Any]
    keys: list[str]
    variants: list[int]
    counts: NotRequired[NDArray[np.int64]]
    starts: NotRequired[NDArray[np.int64]]


#: What every sample holds.
NEEDED = frozenset((*Sample.__annotations__,)) - {"label_map", "masks", "oriented"}
#: Names that samples and batches give to what they hold.
TAKEN = frozenset((*Sample.__annotations__, *Batch.__annotations__))


def batch(samples: Sequence[Sample], boxes: Literal["padded", "ragged"] = "padded") -> Batch:
    """Several samples of one size as one.

    image: (B, …). padded: boxes (B, M, 4), classes (B, M) with −1 where there is none, keypoints
    (B, M, K, 3), crowd (B, M), masks (B, M, H, W), oriented (B, M, 4, 2), counts (B,) objects of each; polygons: a list for each image.
    ragged: all objects one after the other, boxes (N, 4) and so on, with starts (B + 1,). keys, variants: lists. image_classes: (B, C).
    Raises `VarlenError` for pictures of several sizes, or no samples.

    >>> import varlen as v
    >>> samples = v.stream("moths", v.Pipeline([v.Resize(width_px=64, height_px=48)]))
    >>> batch = v.batch([samples[0], samples[1]])
    >>> batch["image"].shape, batch["counts"].tolist()[0] == len(samples[0]["boxes"])
    ((2, 48, 64, 3), True)
    """
    if not samples:
        raise VarlenError("a batch needs at least one sample")
    for given in cast(Sequence[Any], samples):
        if not isinstance(given, dict) or not given.keys() >= NEEDED:
            lacking = ", ".join(sorted(NEEDED - given.keys())) if isinstance(given, dict) else ""
            what = f"a dict without {lacking}" if lacking else type(given).__name__
            raise VarlenError(f"batch: joins samples as v.stream makes them, not {what}; join arrays of your own with np.stack")
    shapes = {sample["image"].shape for sample in samples}
    if len(shapes) != 1:
        raise VarlenError(f"a batch needs pictures of one size, not {', '.join(map(str, sorted(shapes)))}: let the pipeline end with resize")
    counts = np.array([len(sample["classes"]) for sample in samples], np.int64)
    found: dict[str, Any] = {"image": np.stack([sample["image"] for sample in samples])}
    fields = ["boxes", "classes", "keypoints", "crowd", *(name for name in ("masks", "oriented") if any(name in sample for sample in samples))]
    own = cast(list[dict[str, Any]], samples)
    if boxes == "ragged":
        found |= {name: np.concatenate([_of(sample, name) for sample in own]) for name in fields}
        found["polygons"] = [polygon for sample in samples for polygon in sample["polygons"]]
        found["starts"] = np.concatenate([[0], np.cumsum(counts)])
    else:
        most = int(counts.max(initial=0))
        found |= {name: _padded([_of(sample, name) for sample in own], most, -1 if name == "classes" else 0) for name in fields}
        found["polygons"] = [sample["polygons"] for sample in samples]
        found["counts"] = counts
    maps = [sample["label_map"] for sample in samples if "label_map" in sample]
    if len(maps) == len(samples):
        found["label_map"] = np.stack(maps)
    found["image_classes"] = np.stack([sample["image_classes"] for sample in samples])
    found.update({name: np.stack([each[name] for each in own]) for name in own[0] if name not in TAKEN})
    found |= {"keys": [sample["key"] for sample in samples], "variants": [sample["variant"] for sample in samples]}
    return cast(Batch, found)


def _of(sample: dict[str, Any], name: str) -> NDArray[Any]:
    """A part of a sample; where only others of its batch have it, nothing for each of its objects."""
    if name in sample:
        found: NDArray[Any] = sample[name]
        return found
    count, (height, width) = len(sample["classes"]), _sides(sample["image"])
    return np.zeros((count, height, width), np.bool_) if name == "masks" else np.full((count, 4, 2), np.nan, np.float32)


def _sides(image: NDArray[Any]) -> tuple[int, int]:
    """Height and width, wherever the channels are."""
    return (image.shape[1], image.shape[2]) if image.shape[0] in (1, 3) else (image.shape[0], image.shape[1])


def _padded(arrays: list[NDArray[Any]], length: int, fill: int) -> NDArray[Any]:
    out = np.full((len(arrays), length, *arrays[0].shape[1:]), fill, arrays[0].dtype)
    for place, array in enumerate(arrays):
        out[place, : len(array)] = array
    return out


MOST_WORKERS = 256
#: How long a worker may take to finish its batch when the rest is no longer wanted, seconds.
LONGEST_END_S = 5.0
#: The samples a worker process makes batches of; set when it begins.
_SAMPLES: list[Samples] = []


def _can_be_sent(reader: object) -> bool:
    """Whether a reader of paired arrays can be sent to another process: one defined in a notebook, a script or another function can't."""
    if getattr(reader, "__module__", "") in ("__main__", "__mp_main__"):
        return False
    try:
        return bool(pickle.dumps(reader))
    except Exception:  # whatever its own class or what it holds raises
        return False


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
        waiting: deque[Future[ChunkResult]] = deque()
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
        except BaseException:  # also when the consumer of the batches stops early, or Ctrl-C
            with _uninterrupted():
                for future in waiting:
                    future.cancel()
                self.close()
            raise

    def _started(self) -> ProcessPoolExecutor:
        if self._pool is None:
            forked = not all_importable(self.samples.pipeline.all_steps()) or not all(map(_can_be_sent, self.samples.also.values()))
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


def _made_here(numbers: list[int], epoch: int, boxes: Any, folder: str) -> ChunkResult:
    return packed(made_batch(_SAMPLES[0], numbers, epoch, boxes), folder)
