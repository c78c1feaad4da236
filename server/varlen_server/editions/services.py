"""Orders for editions, their names, and what is done with them."""

from __future__ import annotations

import re
import shutil
from collections.abc import Collection
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import transaction
from django.db.models import Max
from rest_framework.exceptions import NotFound
from rest_framework.generics import get_object_or_404
from varlen.datasets.convert import check_losses, in_words, losses_of
from varlen.editions.allotment import Allotment
from varlen.editions.export_spec import ExportSpec
from varlen.editions.scores import Score, attach, read_scores, scores_of
from varlen.errors import EditionError
from varlen.forecasts.expected_counts import expected_labels
from varlen.pipeline.document import from_json
from varlen.stores import url_of

from varlen_server.authorship import by_whom
from varlen_server.backups import deleting
from varlen_server.datasets.imports import allowed_url
from varlen_server.datasets.models import Dataset
from varlen_server.datasets.services import load, split_counts
from varlen_server.editions.models import Edition
from varlen_server.editions.tasks import check_edition, copy_edition, make_edition
from varlen_server.errors import Conflict
from varlen_server.people.services import note
from varlen_server.pipelines.models import Revision, register
from varlen_server.sheet.renderers import renderer_of
from varlen_server.sheet.services import cost_of


def free_name(name: str) -> str:
    """The name, with a number after it where another edition has it already."""
    taken = set(Edition.objects.filter(name__startswith=name).values_list("name", flat=True))
    return next(each for each in (name, *(f"{name} ({number})" for number in range(2, len(taken) + 3))) if each not in taken)


def spec_of(wish: dict[str, Any]) -> ExportSpec:
    """What is ordered. Raises `EditionError` for what can't be made."""
    return ExportSpec(**ExportSpec.fields_of(wish))


State = Edition.State


def total_of(dataset: Dataset, spec: ExportSpec, seed: int) -> dict[str, int]:
    """How many images an edition holds per split. Raises `EditionError` for an order that can't be filled."""
    if spec.allots:
        return Allotment(load(dataset.pk, dataset.digest), spec, seed).counts()
    return spec.counts({row["split"]: row["images"] for row in split_counts(dataset)})


def order_edition(
    name: str, dataset: Dataset, document: dict[str, Any], spec: ExportSpec, revision: Revision | None, leave_out: bool = False,
    accept_loss: Collection[str] = (),
) -> Edition:  # fmt: skip
    """Order an edition; record and job are of one transaction: both are there or neither is.

    A name that another edition has gets a number. Raises `LossRefused` where the format loses all labels of a kind that is
    not among `accept_loss`.
    """
    pipeline = from_json(document)
    source = load(dataset.pk, dataset.digest)
    spec = spec.for_dataset(source)
    lost = check_losses(source, spec.format, accept_loss)
    register(pipeline)
    with transaction.atomic():
        Dataset.objects.select_for_update().get(pk=dataset.pk)
        number = (Edition.objects.filter(dataset=dataset).aggregate(highest=Max("number"))["highest"] or 0) + 1
        edition = Edition.objects.create(
            name=free_name(name),
            number=number,
            accept_loss=list(accept_loss),
            lost=lost,
            dataset=dataset,
            dataset_digest=dataset.digest,
            dataset_name=dataset.name,
            document=pipeline.to_json(),
            pipeline_digest=pipeline.digest,
            order=spec.to_json(),
            total=sum(total_of(dataset, spec, pipeline.seed).values()),
            revision=revision,
            leave_out=leave_out,
        )
        make_edition.defer(edition_id=edition.pk)
    return edition


def edition_or_404(pk: int) -> Edition:
    """An edition with what it is made from."""
    found: Edition = get_object_or_404(Edition.objects.select_related("dataset", "revision"), pk=pk)
    return found


def done_or_404(pk: int) -> Edition:
    """An edition that is done and in its folder."""
    edition = edition_or_404(pk)
    if edition.state != State.DONE or not edition.folder.exists():
        raise NotFound("This edition is not there: it is not done, or its folder is gone.")
    return edition


def estimate(dataset: Dataset, document: dict[str, Any], spec: ExportSpec) -> dict[str, Any]:
    """What an edition would hold, and about how many bytes and seconds it takes."""
    pipeline = from_json(document)
    renderer = renderer_of(dataset.pk, dataset.digest, pipeline)
    spec = spec.for_dataset(renderer.dataset)
    allotment = Allotment(renderer.dataset, spec, pipeline.seed)
    counts = allotment.counts()
    settings.EDITIONS.mkdir(parents=True, exist_ok=True)
    lost = [{**loss, "says": in_words(loss)} for loss in losses_of(renderer.dataset, spec.format)]
    classes = [{"name": name, **both} for name, both in expected_labels(renderer.dataset, allotment).items()]
    return {
        "format": spec.format,
        "lost": lost,
        "class_objects": classes,
        "counts": counts,
        "total": sum(counts.values()),
        "free": shutil.disk_usage(settings.EDITIONS).free,
        **cost_of(renderer, dataset.digest, spec, allotment),
    }


def cancel(pk: int) -> None:
    """Stop making an edition; what was written of it is removed."""
    if Edition.objects.filter(pk=pk, state__in=[State.WAITING, State.STOPPED]).update(state=State.CANCELLED, message="cancelled", **by_whom()):
        shutil.rmtree(Edition(pk=pk).part, ignore_errors=True)
    Edition.objects.filter(pk=pk, state=State.WRITING).update(stop_asked=True, **by_whom())
    note("cancelled", f"edition {pk}")


def resume(pk: int, leave_out: bool) -> None:
    """Resume a stopped edition with the images it has. leave_out: without those that can't be made."""
    with transaction.atomic():
        stopped = Edition.objects.filter(pk=pk, state__in=[State.STOPPED, State.FAILED])
        if leave_out:
            stopped.update(leave_out=True)
        if stopped.update(state=State.WAITING, message="", finished=None, **by_whom()):
            make_edition.defer(edition_id=pk)
            note("resumed", f"edition {pk}")


def check(edition: Edition) -> None:
    """Compare every file of an edition with its record, in the background."""
    with transaction.atomic():
        Edition.objects.filter(pk=edition.pk).update(check_state={"state": "checking", "done": 0})
        check_edition.defer(edition_id=edition.pk)


def copy(edition: Edition, asked: str) -> None:
    """Send an edition to a URL in a store that this server may write to, in the background. Raises `DatasetError` for another place."""
    url = allowed_url(url_of(asked) or asked)
    with transaction.atomic():
        Edition.objects.filter(pk=edition.pk).update(copy_state={"state": "copying", "url": url})
        copy_edition.defer(edition_id=edition.pk, url=url)
    note("copied", f"edition {edition.pk}: {edition}, to {url}")


def remove(edition: Edition) -> None:
    """Delete an edition. Its folder loses its name first: one that is half gone must not be found again as an edition.

    Raises `Conflict` for one that is being made.
    """
    if edition.state in (State.WAITING, State.WRITING):
        raise Conflict("It is being made; cancel it first.")
    going = edition.folder.with_name(f".{edition.folder.name}.removed")
    part = edition.part
    with deleting(settings.STATE):
        shutil.rmtree(going, ignore_errors=True)
        if edition.folder.exists():
            edition.folder.rename(going)
        edition.delete()
        for folder in (going, part):
            shutil.rmtree(folder, ignore_errors=True)


def attach_scores(edition: Edition, scores: list[dict[str, Any]], text: str, source: str) -> list[Score]:
    """Attach scores, one by one or as the text of a file; returns all there are now. Raises `EditionError`."""
    found = [Score(**score) for score in scores]
    if text.strip():
        found += read_scores(text, source)
    if not found:
        raise EditionError("there is no score in what was sent")
    attach(edition.folder, found)
    Edition.objects.filter(pk=edition.pk).update(**by_whom())
    note("scored", f"edition {edition.pk}: {edition.name}: {', '.join(sorted({score.name for score in found}))}")
    return scores_of(edition.folder)


def download_name(edition: Edition) -> str:
    """The name of an edition's zip."""
    name = re.sub(r"[^\w.-]+", "-", edition.name).strip("-") or f"edition-{edition.pk}"
    return f"{name}.zip"


def download_version(edition: Edition) -> str:
    """Changes with what is downloaded: scores are attached later and are no part of what was made."""
    return f"{edition.output_digest.removeprefix('sha256:')[:32]}-{_last_change(edition.folder)}"


def _last_change(folder: Path) -> int:
    """When something was last put beside the edition's files, ns."""
    return max(path.stat().st_mtime_ns for path in (folder, *folder.glob("*.json*")))
