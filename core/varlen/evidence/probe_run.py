"""One run of a probe: a network trained with one pipeline and one seed, judged under every condition; done in a process of its own."""

from __future__ import annotations

import html
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
from varlen.evidence.crops import Crops, Task, counts, crops_of, join
from varlen.evidence.network import BATCH, Network
from varlen.executors import Cancelled
from varlen.pipeline.document import Pipeline
from varlen.render.samples import Samples, stream

#: Pictures that are judged, and crops of them, at most; and pictures that are trained from.
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


#: Names of the parts of `Crops` in files, which an interrupted probe continues with.
_STORED = {"pixels": "pixels", "answers": "targets", "owner": "owner"}


def carry_out(run: Run) -> None:
    """Train and judge; the result is written whole. Raises `Cancelled` when told to stop, `EvidenceError` when nothing can be trained."""
    on_progress = _progress(run)
    pool = training_crops(run, lambda share: on_progress(0.5 * share))
    network = Network(run.task, run.seed)
    order = _order(len(pool), run)
    network.train(run.steps, lambda step: _taken(pool, order[step]), lambda step: on_progress(0.5 + 0.45 * step / run.steps))
    found: dict[str, Any] = {"pipeline": run.name, "seed": run.seed, "steps": run.steps, "trained_on": len(pool), "conditions": {}}
    for condition, crops in load_judged(run.folder).items():
        pictures = int(crops.owner.max()) + 1 if len(crops) else 0
        right, whole = counts(run.task, crops, network.predict(crops.pixels), pictures)
        found["conditions"][condition] = {"right": right.tolist(), "all": whole.tolist()}
    write_whole(run.result, orjson.dumps(found))
    run.progress.unlink(missing_ok=True)


def training_crops(run: Run, on_progress: Callable[[float], None]) -> Crops:
    """Crops of as many epochs as the steps take; of one where the pipeline leaves nothing to chance."""
    samples = stream(run.dataset, run.pipeline, "train", seed=run.seed * 1000 + run.pipeline.seed % 1000)
    places = evenly_spaced(range(len(samples)), MOST_TRAINED)
    wanted = run.steps * BATCH
    parts: list[Crops] = []
    have, epoch = 0, 0
    while have < wanted and (epoch == 0 or run.pipeline.varies):
        before = have
        for place in places:
            part = _of_sample(run, samples, place, epoch)
            if part is not None and len(part):
                parts.append(part)
                have += len(part)
            on_progress(min(1.0, have / wanted))
            if have >= wanted:
                break
        if have == before:
            break
        epoch += 1
    if not parts:
        raise EvidenceError(f"{run.dataset.name}: the pipeline {run.name} leaves nothing in the training split to learn from")
    return join(parts)


def _of_sample(run: Run, samples: Samples, place: int, epoch: int) -> Crops | None:
    """The crops of one variant; None where it can't be made."""
    try:
        return crops_of(run.task, run.dataset, samples.sample(place, epoch), place, [run.seed, place, epoch])
    except VarlenError:
        return None


def _order(count: int, run: Run) -> NDArray[np.int64]:
    """Which crops each step takes, (steps, batch): one shuffled order after another, the same for all pipelines of a seed."""
    rng = np.random.default_rng([run.seed, 7])
    wanted = run.steps * BATCH
    rounds = [rng.permutation(count) for _ in range(-(-wanted // count))]
    return np.concatenate(rounds)[:wanted].reshape(run.steps, BATCH)


def _taken(pool: Crops, places: NDArray[np.int64]) -> Crops:
    return Crops(pool.pixels[places], pool.targets[places], pool.owner[places])


def _progress(run: Run) -> Callable[[float], None]:
    """Writes down how far the run is, and looks whether it is to stop."""
    last = -1.0

    def on_progress(share: float) -> None:
        nonlocal last
        if share - last < 0.01:
            return
        last = share
        if (run.folder / STOP).exists():
            raise Cancelled
        run.progress.write_text(f"{share:.3f}")

    return on_progress


def judged_squares(dataset: Dataset, task: Task, split: str, pipelines: list[Pipeline]) -> Crops:
    """The crops of a split under one condition, a picture's place among those judged as their owner."""
    parts = []
    for pipeline in pipelines:
        samples = stream(dataset, pipeline, split)
        for owner, place in enumerate(evenly_spaced(range(len(samples)), MOST_JUDGED)):
            try:
                parts.append(crops_of(task, dataset, samples.sample(place, 0), owner, [3, place]))
            except VarlenError:
                continue
    if not parts or not sum(map(len, parts)):
        raise EvidenceError(f"{dataset.name}: the split {split} holds nothing that can be judged")
    found = join(parts)
    if len(found) <= MOST_JUDGED_SQUARES:
        return found
    return _taken(found, np.array(evenly_spaced(range(len(found)), MOST_JUDGED_SQUARES)))


def save_judged(folder: Path, judged: dict[str, Crops]) -> None:
    """Keep the crops of all conditions beside the results, for every run to be judged on the same."""
    arrays = {f"{name}/{part}": getattr(crops, field) for name, crops in judged.items() for part, field in _STORED.items()}
    np.savez(folder / "judged.npz", **arrays)


def load_judged(folder: Path) -> dict[str, Crops]:
    """What `save_judged` kept."""
    with np.load(folder / "judged.npz") as stored:
        names = dict.fromkeys(name.split("/")[0] for name in stored.files)
        return {name: Crops(*(stored[f"{name}/{part}"] for part in _STORED)) for name in names}


def html_table(found: dict[str, Any]) -> str:
    """A row a pipeline: its mean, spread, difference with interval, verdict; then how it holds under each condition."""
    rows = "".join(_row(row) for row in found["results"])
    conditions = list(next(iter(found["robustness"].values())))
    head = "".join(f"<th>{html.escape(name)}</th>" for name in conditions)
    grid = "".join(
        f"<tr><td>{html.escape(name)}</td>{''.join(f'<td>{values[condition]:.3f}</td>' for condition in conditions)}</tr>"
        for name, values in found["robustness"].items()
    )
    return (
        f"<p>{html.escape(found['metric'])} on {html.escape(found['split'])}, {found['seeds']} seeds, {found['steps']} steps</p>"
        f"<table><tr><th>pipeline</th><th>mean</th><th>spread</th><th>difference</th><th>95 % interval</th><th></th></tr>{rows}</table>"
        f"<table><tr><th></th>{head}</tr>{grid}</table><p>{html.escape(found['proxy'])}</p>"
    )


def _row(row: dict[str, Any]) -> str:
    cells = [html.escape(row["pipeline"]), f"{row['mean']:.3f}", f"{row['spread']:.3f}"]
    if "verdict" in row:
        low, high = row["interval"]
        cells += [f"{row['difference']:+.3f}", f"{low:+.3f} … {high:+.3f}", html.escape(row["verdict"])]
    return f"<tr>{''.join(f'<td>{cell}</td>' for cell in cells)}</tr>"
