"""Every pipeline on every dataset: a folder of editions, of which only the missing ones are made."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterator
from dataclasses import dataclass, replace
from pathlib import Path

from varlen.datasets.dataset import Dataset
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.record import RECORD, EditionRecord, read_record
from varlen.errors import EditionError, VarlenError
from varlen.pipeline.document import Pipeline


@dataclass(frozen=True, slots=True)
class TrialCell:
    """One pipeline on one dataset. state: there, made or failed; message: why it failed."""

    dataset: str
    pipeline: str
    folder: Path
    state: str
    output_digest: str = ""
    message: str = ""


def order_for(pipeline: Pipeline, spec: ExportSpec) -> ExportSpec:
    """The order of one cell: a pipeline in which nothing varies makes each variant once, and where it leaves training images as they are, none."""
    if pipeline.varies:
        return spec
    once = replace(spec, total=0, per_class=0, balance=False)
    return replace(once, variants=1) if pipeline.alters_training else replace(once, variants=0, originals=True)


def grid(datasets: list[Dataset], pipelines: list[Pipeline], out: Path, spec: ExportSpec, *, workers: int = 1, scheduler: str = "",
         accept_loss: Collection[str] = (),
         progress: Callable[[str, int, int], None] = lambda cell, done, total: None) -> Iterator[TrialCell]:  # fmt: skip
    """Make what is missing, cell after cell; one that fails does not stop the others.

    An edition that lies in a cell's folder is kept when it was made from the same dataset,
    pipeline and order, and refused when not: nothing is overwritten. progress: called with the
    cell's name, images written and their final number.
    """
    names = [_names([dataset.name for dataset in datasets]), _names([pipeline.name for pipeline in pipelines])]
    for dataset, dataset_name in zip(datasets, names[0], strict=True):
        for pipeline, pipeline_name in zip(pipelines, names[1], strict=True):
            folder = out / f"{dataset_name}--{pipeline_name}"
            try:
                order = order_for(pipeline, spec.for_dataset(dataset))
                record = _there(folder, dataset, pipeline, order)
                state = "there"
                if record is None:
                    state = "made"
                    record = export(dataset, pipeline, folder, order, workers=workers, scheduler=scheduler, resume=True,
                                    accept_loss=accept_loss, progress=_told(progress, folder.name))  # fmt: skip
                yield TrialCell(dataset.name, pipeline.name, folder, state, record["output_digest"])
            except VarlenError as error:
                yield TrialCell(dataset.name, pipeline.name, folder, "failed", message=str(error))


def _told(progress: Callable[[str, int, int], None], cell: str) -> Callable[[int, int], None]:
    return lambda done, total: progress(cell, done, total)


def _there(folder: Path, dataset: Dataset, pipeline: Pipeline, spec: ExportSpec) -> EditionRecord | None:
    """The record of the edition that is there already; None where there is none."""
    if not (folder / RECORD).exists():
        return None
    record = read_record(folder)
    wanted = {"dataset_digest": dataset.digest(), "pipeline_digest": pipeline.digest, **spec.to_json()}
    other = [name for name, value in wanted.items() if record.get(name) != value]
    if other:
        raise EditionError(f"{folder}: another edition lies there (its {' and '.join(other)} differ); choose a new folder")
    return record


def _names(given: list[str]) -> list[str]:
    """Names fit for folders, told apart by numbers where two are alike."""
    found: list[str] = []
    for name in given:
        plain = re.sub(r"[^\w.-]+", "-", name.lower()).strip("-.") or "unnamed"
        number = sum(each == plain or re.fullmatch(re.escape(plain) + r"-\d+", each) is not None for each in found)
        found.append(f"{plain}-{number + 1}" if number else plain)
    return found
