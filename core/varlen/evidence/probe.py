"""Does it help? A small network trained with each pipeline and with none, judged on pictures that nobody augmented.

A proxy: good for finding steps that harm and for ranking pipelines, not for the scores a real model will reach.
"""

from __future__ import annotations

import hashlib
import re
import shutil
import tempfile
import time
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, wait
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import orjson

from varlen._version import __version__
from varlen.atomic_files import write_whole
from varlen.datasets.dataset import Dataset
from varlen.errors import EvidenceError
from varlen.evidence.conditions import CONDITIONS, UNDER, pipelines_of
from varlen.evidence.crops import Task, task_of
from varlen.evidence.network import BATCH, require_library, use_one_thread
from varlen.evidence.paired import Difference, Floats, difference, score, seeds_to_tell
from varlen.evidence.probe_run import STOP, Run, carry_out, judged_squares, save_judged, training_crops
from varlen.executors import Cancelled, processes
from varlen.pipeline.document import Pipeline
from varlen.time_left import TimeLeft

NONE = "none"
UNTOUCHED = "untouched"
SEEDS, STEPS = 3, 240
FEWEST_STEPS, MOST_STEPS = 60, 2000
#: A step of training on one processor core, and what a run takes besides its steps, seconds; measured on two cores at 2.5 GHz.
TRAINING_STEP_SECONDS, START_SECONDS = 0.03, 6.0
#: Steps for every picture that only make the model's input: the network has an input of its own.
_INPUT_STEPS = ("resize", "crop", "pad", "normalize")
PROXY = ("A proxy: a small network for a few minutes. Good for finding harmful steps and for ranking pipelines; "
         "not for the scores a real model will reach.")  # fmt: skip


@dataclass(frozen=True)
class Probe:
    """What a probe found; prints as a table, `to_json` for all of it."""

    dataset: str
    task: Task
    split: str
    seeds: int
    steps: int
    seconds: float
    runs: dict[str, list[dict[str, Any]]]
    pipelines: dict[str, dict[str, Any]]
    notes: list[str] = field(default_factory=list)

    def to_json(self) -> dict[str, Any]:
        """As plain values."""
        results = self.results
        against = {name: self._against_none(name) for name in self.runs if name != NONE}
        return {
            "headline": [_headline(row, against[row["pipeline"]]) for row in results if row["pipeline"] != NONE],
            "task": self.task.name, "metric": self.task.metric, "split": self.split, "seeds": self.seeds, "steps": self.steps,
            "seconds": round(self.seconds, 1), "results": results, "robustness": {name: self._robustness(name) for name in self.runs},
            "robustness_difference": against,
            "class_difference": {name: self._by_class(name) for name in self.runs if name != NONE},
            "columns": list(self.task.columns), "conditions": list(CONDITIONS),
            "pipelines": self.pipelines, "dataset": self.dataset, "notes": self.notes, "proxy": PROXY, "version": __version__,
        }  # fmt: skip

    @property
    def results(self) -> list[dict[str, Any]]:
        """A row for each pipeline, "none" first: mean, spread, n, and for the others difference, interval and verdict."""
        return [self._result(name) for name in self.runs]

    def _counts(self, name: str, condition: str) -> list[tuple[Floats, Floats]]:
        return [(np.array(run["conditions"][condition]["right"]), np.array(run["conditions"][condition]["all"])) for run in self.runs[name]]

    def _scores(self, name: str, condition: str) -> Floats:
        return np.array([float(score(right, whole)[0]) for right, whole in self._counts(name, condition)])

    def _result(self, name: str) -> dict[str, Any]:
        values = self._scores(name, UNTOUCHED)
        found: dict[str, Any] = {
            "pipeline": name, "mean": round(float(values.mean()), 4), "spread": round(float(values.std(ddof=1)) if len(values) > 1 else 0.0, 4),
            "n": len(values), "values": [round(float(value), 4) for value in values], "per_class": self._per_class(name),
        }  # fmt: skip
        if name == NONE:
            return found
        told = difference(self._counts(name, UNTOUCHED), self._counts(NONE, UNTOUCHED))
        return {**found, **_plain(told), **self._advice(told)}

    def _advice(self, told: Difference) -> dict[str, Any]:
        """What would tell, where no difference is shown."""
        if told.verdict != "no difference shown" or told.mean == 0.0:
            return {}
        more = seeds_to_tell(told, self.seeds)
        if more is None:
            return {"to_tell": "more validation pictures: so few hide a difference of this size whatever the seeds"}
        minutes = self.seconds / 60 * more / self.seeds
        return {"to_tell": f"about {more} seeds ({minutes:.0f} min) if the difference is as large as it looks", "seeds_to_tell": more}

    def _per_class(self, name: str) -> dict[str, float | None]:
        """The mean of each column's right / all over runs; None for a column with nothing to judge."""
        right, whole = (sum(each[part].sum(axis=0) for each in self._counts(name, UNTOUCHED)) for part in (0, 1))
        return {column: round(float(right[place] / whole[place]), 4) if whole[place] else None
                for place, column in enumerate(self.task.columns)}  # fmt: skip

    def _robustness(self, name: str) -> dict[str, float]:
        return {condition: round(float(self._scores(name, condition).mean()), 4) for condition in CONDITIONS}

    def _against_none(self, name: str) -> dict[str, dict[str, Any]]:
        return {condition: _plain(difference(self._counts(name, condition), self._counts(NONE, condition))) for condition in CONDITIONS}

    def _by_class(self, name: str) -> dict[str, dict[str, Any]]:
        """Each column's difference to none, without those that have nothing to judge."""
        mine, none = self._counts(name, UNTOUCHED), self._counts(NONE, UNTOUCHED)
        return {column: _plain(difference([_column(run, place) for run in mine], [_column(run, place) for run in none]))
                for place, column in enumerate(self.task.columns) if any(whole[:, place].any() for _, whole in none)}  # fmt: skip

    def __repr__(self) -> str:
        lines = [f"{row['pipeline']} {row['mean']:.3f}" + (f" ({row['difference']:+.3f}, {row['verdict']})" if "verdict" in row else "")
                 for row in self.results]  # fmt: skip
        return f"Probe({self.task.metric} on {self.split}, {self.seeds} seeds: {'; '.join(lines)})"

    def _repr_html_(self) -> str:
        from varlen.evidence.probe_run import html_table

        return html_table(self.to_json())


def _headline(row: dict[str, Any], against: dict[str, dict[str, Any]]) -> str:
    """The answer in a sentence: *Lamp drift: no difference shown; in the dark it helps (+0.15)*. against: what each condition shows."""
    plain = row["verdict"] if row["verdict"] == "no difference shown" else f"{row['verdict']} ({row['difference']:+.2f})"
    clear = [f"{UNDER[name]} it {found['verdict']} ({found['difference']:+.2f})" for name, found in against.items()
             if found["verdict"] != "no difference shown"]  # fmt: skip
    return f"{row['pipeline']}: {'; '.join([plain, *clear])}"


def _column(run: tuple[Floats, Floats], place: int) -> tuple[Floats, Floats]:
    """One column's right and all."""
    return run[0][:, [place]], run[1][:, [place]]


def _plain(told: Difference) -> dict[str, Any]:
    return {"difference": round(told.mean, 4), "interval": [round(told.low, 4), round(told.high, 4)], "verdict": told.verdict}


def probe(dataset: Dataset, pipelines: Sequence[Pipeline], *, seeds: int = SEEDS, minutes: float | None = None, steps: int = 0, task: str = "",
          out: Path | None = None, workers: int = 2, progress: Callable[[float, float | None], None] = lambda done, left: None,
          stop: Callable[[], bool] = lambda: False) -> Probe:  # fmt: skip
    """Train with each pipeline and with none, and compare on the validation split.

    seeds: runs of each; minutes: about how long all may take (the steps follow from it); steps: of training, the same for all; task: see
    `task_of`; out: a folder for what was found, from which an interrupted probe continues; workers: processes; progress: told the share done
    and the seconds left; stop: asked now and then. Raises `EvidenceError`, `Cancelled`.
    """
    require_library()
    if not pipelines:
        raise EvidenceError("a probe needs at least one pipeline to compare with none")
    if not 1 <= seeds <= 100:
        raise EvidenceError("a probe needs between 1 and 100 seeds")
    wanted = task_of(dataset, task)
    split, notes = _split_of(dataset, wanted)
    named = _named(pipelines)
    folder = out if out is not None else Path(tempfile.mkdtemp(prefix="varlen-probe-"))
    begun = time.monotonic()
    try:
        steps = steps or _steps_kept(folder) or (STEPS if minutes is None else _steps_for(minutes, dataset, wanted, named, split, seeds, workers))
        _prepare(folder, dataset, wanted, split, named, seeds, steps)
        runs = [Run(dataset, pipeline, wanted, name, seed, steps, folder) for seed in range(1, seeds + 1) for name, pipeline in named.items()]
        _carry_out_all(runs, workers, progress, stop)
        found = {name: [orjson.loads(run.result.read_bytes()) for run in runs if run.name == name] for name in named}
        documents = {name: pipeline.to_json() for name, pipeline in zip(list(named)[1:], pipelines, strict=True)}
        result = Probe(dataset.name, wanted, split, seeds, steps, time.monotonic() - begun, found, documents, notes)
        if out is not None:
            write_whole(folder / "probe.json", orjson.dumps(result.to_json(), option=orjson.OPT_INDENT_2))
        return result
    finally:
        if out is None:
            shutil.rmtree(folder, ignore_errors=True)


def _split_of(dataset: Dataset, task: Task) -> tuple[str, list[str]]:
    """The split to judge on, and what is to be said of it. Raises `EvidenceError` where there is none."""
    there = dataset.by_split()
    if not there.get("train"):
        raise EvidenceError(f"{dataset.name}: there is no training split; --split 80/10/10 draws splits")
    split = next((name for name in ("validation", "test") if there.get(name)), None)
    if split is None:
        raise EvidenceError(f"{dataset.name}: there is no validation split to judge on; --split 80/10/10 draws splits")
    notes = [] if split == "validation" else ["there is no validation split: judged on the test split"]
    if task.name in ("classification", "objects"):
        seen = {name for key in there[split] for name in dataset.entries[key].labels(dataset.classes)}
        missing = [name for name in task.columns if name not in seen and name != "background"]
        if missing:
            notes.append(f"the split {split} shows no {', '.join(missing[:5])}: nothing is said of {'it' if len(missing) == 1 else 'them'}")
    if len(there[split]) < 20:
        notes.append(f"only {len(there[split])} pictures to judge on: intervals are wide")
    return split, notes


def _named(pipelines: Sequence[Pipeline]) -> dict[str, Pipeline]:
    """None first, then each pipeline under its name, numbered where two have the same; without the steps that make a model's input."""
    found = {NONE: Pipeline(name=NONE)}
    for pipeline in pipelines:
        name, number = pipeline.name, 2
        while name in found:
            name, number = f"{pipeline.name} {number}", number + 1
        document = pipeline.to_json()
        document["steps"] = [step for step in document["steps"] if not (step.get("scope") == "every" and step["step"] in _INPUT_STEPS)]
        found[name] = Pipeline.from_json(document)
    return {_file_name(name) if name != NONE else NONE: pipeline for name, pipeline in found.items()}


def _file_name(name: str) -> str:
    """A pipeline's name as far as file names go."""
    return re.sub(r"[/\\\0]", " ", name).strip(" .") or "pipeline"


def _steps_kept(folder: Path) -> int:
    """The steps of the probe that was begun in a folder, 0 where there is none."""
    try:
        return int(orjson.loads((folder / "order.json").read_bytes())["steps"])
    except (OSError, ValueError, KeyError, TypeError):
        return 0


def _prepare(folder: Path, dataset: Dataset, task: Task, split: str, named: dict[str, Pipeline], seeds: int, steps: int) -> None:
    """Write down what is to be done, and the crops that are judged; keep what an interrupted probe of the same order has done."""
    folder.mkdir(parents=True, exist_ok=True)
    order = {"dataset": dataset.digest(), "task": task.name, "split": split, "pipelines": {name: each.digest for name, each in named.items()},
             "steps": steps, "version": __version__}  # fmt: skip
    key = hashlib.sha256(orjson.dumps(order, option=orjson.OPT_SORT_KEYS)).hexdigest()
    path = folder / "order.json"
    if path.exists():
        if orjson.loads(path.read_bytes()).get("key") != key:
            raise EvidenceError(f"{folder}: another probe lies there; choose a new folder")
    elif any(folder.iterdir()):
        raise EvidenceError(f"{folder}: exists and holds something else")
    (folder / STOP).unlink(missing_ok=True)
    if not (folder / "judged.npz").exists():
        judged = {UNTOUCHED: judged_squares(dataset, task, split, [Pipeline()])}
        for condition in CONDITIONS:
            judged[condition] = judged_squares(dataset, task, split, pipelines_of(condition))
        save_judged(folder, judged)
    write_whole(path, orjson.dumps({**order, "key": key, "seeds": seeds}))


def _carry_out_all(runs: list[Run], workers: int, progress: Callable[[float, float | None], None], stop: Callable[[], bool]) -> None:
    """Every run that has no result yet, in processes. Raises `Cancelled`; what is done stays."""
    left = [run for run in runs if not run.result.exists()]
    before, time_left = len(runs) - len(left), TimeLeft()
    folder = runs[0].folder
    with processes(max(1, min(workers, len(left) or 1)), use_one_thread) as pool:
        waiting: set[Future[None]] = {pool.submit(carry_out, run) for run in left}
        try:
            while waiting:
                finished, waiting = wait(waiting, timeout=0.3, return_when=FIRST_COMPLETED)
                for future in finished:
                    future.result()
                done = before + sum(run.result.exists() for run in left)
                share = (done + sum(_share(run) for run in left if not run.result.exists())) / len(runs)
                known = before / len(runs)
                progress(share, time_left.after((share - known) / (1 - known) if known < 1 else 1.0))
                if stop():
                    raise Cancelled
        except BaseException:
            (folder / STOP).touch()
            for future in waiting:
                future.cancel()
            raise


def _share(run: Run) -> float:
    try:
        return float(run.progress.read_text())
    except (OSError, ValueError):
        return 0.0


def _steps_for(minutes: float, dataset: Dataset, task: Task, named: dict[str, Pipeline], split: str, seeds: int, workers: int) -> int:
    """As many steps as fit into the time: a few variants of each pipeline are made to see how long they take."""
    seconds = 0.0
    with tempfile.TemporaryDirectory() as folder:
        for name, pipeline in named.items():
            begun = time.monotonic()
            pool = training_crops(Run(dataset, pipeline, task, name, 1, 4, Path(folder)), lambda share: None)
            made = min(len(pool), 4 * BATCH)
            seconds += (time.monotonic() - begun) / max(made, 1) * BATCH if pipeline.varies else 0.0
            seconds += TRAINING_STEP_SECONDS
    fixed = START_SECONDS * len(named)
    available = minutes * 60 * max(1, workers) / max(seeds, 1) - fixed
    return int(min(max(available / seconds, FEWEST_STEPS), MOST_STEPS))
