"""One run of a probe: a network trained with one pipeline and one seed, judged under every condition; done in a process of its own."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import orjson
from numpy.typing import NDArray

from varlen.atomic_files import write_whole
from varlen.datasets.dataset import Dataset
from varlen.datasets.summary import evenly_spaced
from varlen.errors import EvidenceError, VarlenError
from varlen.evidence.crops import Squares, Task, counts, join, squares_of
from varlen.evidence.network import BATCH, Network
from varlen.executors import Cancelled
from varlen.pipeline.document import Pipeline
from varlen.render.samples import Samples, stream

#: Pictures that are judged, and squares of them, at most; and pictures that are trained from.
MOST_JUDGED, MOST_JUDGED_SQUARES, MOST_TRAINED = 300, 3000, 800
#: Steps between two looks at whether to stop.
LOOK = 10
STOP = "stop"


@dataclass(frozen=True)
class Run:
    """What a run is made of. folder: where its results, its progress and a wish to stop are written."""

    dataset: Dataset
    pipeline: Pipeline
    task: Task
    name: str
    seed: int
    steps: int
    folder: Path

    @property
    def result(self) -> Path:
        """The file its counts are written to."""
        return self.folder / f"{self.name}-{self.seed}.json"

    @property
    def progress(self) -> Path:
        """The file that holds how much of it is done, 0 … 1."""
        return self.folder / f"{self.name}-{self.seed}.progress"


def carry_out(run: Run) -> None:
    """Train and judge; the result is written whole. Raises `Cancelled` when told to stop, `EvidenceError` when nothing can be trained."""
    told = _progress(run)
    pool = training_squares(run, lambda share: told(0.5 * share))
    network = Network(run.task, run.seed)
    order = _order(len(pool), run)
    network.train(run.steps, lambda step: _taken(pool, order[step]), lambda step: told(0.5 + 0.45 * step / run.steps))
    found: dict[str, Any] = {"pipeline": run.name, "seed": run.seed, "steps": run.steps, "trained_on": len(pool), "conditions": {}}
    for condition, squares in load_judged(run.folder).items():
        pictures = int(squares.owner.max()) + 1 if len(squares) else 0
        right, whole = counts(run.task, squares, network.answer(squares.pixels), pictures)
        found["conditions"][condition] = {"right": right.tolist(), "all": whole.tolist()}
    write_whole(run.result, orjson.dumps(found))
    run.progress.unlink(missing_ok=True)


def training_squares(run: Run, told: Callable[[float], None]) -> Squares:
    """Squares of as many epochs as the steps take; of one where the pipeline leaves nothing to chance."""
    samples = stream(run.dataset, run.pipeline, "train", seed=run.seed * 1000 + run.pipeline.seed % 1000)
    places = evenly_spaced(range(len(samples)), MOST_TRAINED)
    wanted = run.steps * BATCH
    parts: list[Squares] = []
    have, epoch = 0, 0
    while have < wanted and (epoch == 0 or run.pipeline.varies):
        before = have
        for place in places:
            part = _of_sample(run, samples, place, epoch)
            if part is not None and len(part):
                parts.append(part)
                have += len(part)
            told(min(1.0, have / wanted))
            if have >= wanted:
                break
        if have == before:
            break
        epoch += 1
    if not parts:
        raise EvidenceError(f"{run.dataset.name}: the pipeline {run.name} leaves nothing in the training split to learn from")
    return join(parts)


def _of_sample(run: Run, samples: Samples, place: int, epoch: int) -> Squares | None:
    """The squares of one variant; None where it can't be made."""
    try:
        return squares_of(run.task, run.dataset, samples.sample(place, epoch), place, [run.seed, place, epoch])
    except VarlenError:
        return None


def _order(count: int, run: Run) -> NDArray[np.int64]:
    """Which squares each step takes, (steps, batch): one shuffled order after another, the same for all pipelines of a seed."""
    rng = np.random.default_rng([run.seed, 7])
    wanted = run.steps * BATCH
    rounds = [rng.permutation(count) for _ in range(-(-wanted // count))]
    return np.concatenate(rounds)[:wanted].reshape(run.steps, BATCH)


def _taken(pool: Squares, places: NDArray[np.int64]) -> Squares:
    return Squares(pool.pixels[places], pool.answers[places], pool.owner[places])


def _progress(run: Run) -> Callable[[float], None]:
    """Writes down how far the run is, and looks whether it is to stop."""
    last = -1.0

    def told(share: float) -> None:
        nonlocal last
        if share - last < 0.01:
            return
        last = share
        if (run.folder / STOP).exists():
            raise Cancelled
        run.progress.write_text(f"{share:.3f}")

    return told


def judged_squares(dataset: Dataset, task: Task, split: str, pipelines: list[Pipeline]) -> Squares:
    """The squares of a split under one condition, a picture's place among those judged as their owner."""
    parts = []
    for pipeline in pipelines:
        samples = stream(dataset, pipeline, split)
        for owner, place in enumerate(evenly_spaced(range(len(samples)), MOST_JUDGED)):
            try:
                parts.append(squares_of(task, dataset, samples.sample(place, 0), owner, [3, place]))
            except VarlenError:
                continue
    if not parts or not sum(map(len, parts)):
        raise EvidenceError(f"{dataset.name}: the split {split} holds nothing that can be judged")
    found = join(parts)
    if len(found) <= MOST_JUDGED_SQUARES:
        return found
    return _taken(found, np.array(evenly_spaced(range(len(found)), MOST_JUDGED_SQUARES)))


def save_judged(folder: Path, judged: dict[str, Squares]) -> None:
    """Keep the squares of all conditions beside the results, for every run to be judged on the same."""
    arrays = {f"{name}/{part}": getattr(squares, part) for name, squares in judged.items() for part in ("pixels", "answers", "owner")}
    np.savez(folder / "judged.npz", **arrays)


def load_judged(folder: Path) -> dict[str, Squares]:
    """What `save_judged` kept."""
    with np.load(folder / "judged.npz") as stored:
        names = dict.fromkeys(name.split("/")[0] for name in stored.files)
        return {name: Squares(*(stored[f"{name}/{part}"] for part in ("pixels", "answers", "owner"))) for name in names}
