"""Trials: every pipeline on every dataset, what is made of it and what came of training."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from varlen.editions.scores import scores_of
from varlen.editions.trials import order_for
from varlen.errors import VarlenError
from varlen.pipeline.document import from_json

from varlen_server.datasets.models import Dataset
from varlen_server.editions.models import Edition
from varlen_server.editions.services import order_edition, spec_of
from varlen_server.pipelines.models import Revision

_GIVEN_UP = (Edition.State.CANCELLED, Edition.State.FAILED)

#: What an edition is looked up by: dataset, its snapshot's digest, pipeline's digest.
Key = tuple[int | None, str, str]
Cell = dict[str, Any]


def all_cells() -> list[Cell]:
    """A cell for every pipeline and dataset, as both are now."""
    newest, datasets = _newest_editions(), _datasets()
    cells = [_cell(dataset, revision, newest) for revision in _latest_revisions() for dataset in datasets]
    _compared_scores(cells)
    return cells


def start(datasets: list[int], pipelines: list[int], order: dict[str, Any], accept_loss: Sequence[str] = ()) -> list[Cell]:
    """Order the editions that are missing for some pipelines and datasets; those made from an earlier state of either don't count."""
    newest, cells = _newest_editions(), []
    chosen = [each for each in _datasets() if each.pk in datasets]
    for revision in (each for each in _latest_revisions() if each.pipeline_id in pipelines):
        for dataset in chosen:
            key = dataset.pk, dataset.digest, revision.digest
            if key not in newest:
                name = f"{dataset.name}, {revision.pipeline.name}"[:120]
                newest[key] = order_edition(
                    name, dataset, revision.document, order_for(from_json(revision.document), spec_of(order)), revision, accept_loss=accept_loss
                )
            cells.append(_cell(dataset, revision, newest))
    _compared_scores(cells)
    return cells


def _datasets() -> list[Dataset]:
    return list(Dataset.objects.filter(ready=True))


def _latest_revisions() -> list[Revision]:
    """The newest revision of every pipeline."""
    newest = Revision.objects.order_by("pipeline_id", "-number").distinct("pipeline_id")
    return list(newest.select_related("pipeline"))


def _newest_editions() -> dict[Key, Edition]:
    """The newest edition of each dataset snapshot and pipeline, but for those that were given up."""
    found: dict[Key, Edition] = {}
    for edition in Edition.objects.exclude(state__in=_GIVEN_UP).order_by("pk"):
        found[edition.dataset_id, edition.dataset_digest, edition.pipeline_digest] = edition
    return found


def _cell(dataset: Dataset, revision: Revision, newest: dict[Key, Edition]) -> Cell:
    edition = newest.get((dataset.pk, dataset.digest, revision.digest))
    cell: Cell = {
        "dataset": dataset.pk,
        "pipeline": revision.pipeline_id,
        "edition": None,
        "state": "",
        "done": 0,
        "total": 0,
        "message": "",
        "scores": [],
    }
    if edition is None:
        return cell
    return {**cell, "edition": edition.pk, "state": edition.state, "done": edition.done, "total": edition.total, "message": edition.message,
            "scores": []}  # fmt: skip


def _compared_scores(cells: list[Cell]) -> None:
    """Give every cell its scores over runs, compared with the dataset's baseline."""
    from varlen.evidence.paired import ScoredEdition, compare_scores

    scored = []
    for edition in Edition.objects.filter(pk__in=[cell["edition"] for cell in cells if cell["edition"]], state=Edition.State.DONE):
        try:
            scores = scores_of(edition.folder)
        except VarlenError:
            continue
        if scores:
            scored.append(ScoredEdition.of(str(edition.pk), edition.dataset_name, edition.dataset_digest, edition.document, scores))
    if not scored:
        return
    by_edition: dict[int, list[dict[str, Any]]] = {}
    for row in compare_scores(scored):
        by_edition.setdefault(int(row["edition"]), []).append({**row, "name": row["score"], "value": row["mean"]})
    for cell in cells:
        cell["scores"] = by_edition.get(cell["edition"], [])
