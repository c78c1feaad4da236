"""Asking, cancelling, going on, deleting."""

from __future__ import annotations

import shutil
from typing import Any

from varlen.errors import EvidenceError
from varlen.pipeline.document import from_json

from varlen_server.datasets.models import Dataset
from varlen_server.errors import Conflict
from varlen_server.evidence.models import Inquiry
from varlen_server.evidence.tasks import carry_out

State = Inquiry.State
UNDER_WAY = (State.WAITING, State.RUNNING)


def ask_match(dataset: Dataset, field: Dataset, document: dict[str, Any] | None) -> Inquiry:
    """Order a match. Raises `PipelineError`, and `EvidenceError` for a set matched with itself."""
    if dataset.pk == field.pk:
        raise EvidenceError("the field must be another set of pictures than the training pictures")
    documents = [] if document is None else [from_json(document).to_json()]
    return _ask(Inquiry(kind=Inquiry.Kind.MATCH, field=field, field_name=field.name, documents=documents), dataset)


def ask_probe(dataset: Dataset, documents: list[dict[str, Any]], options: dict[str, Any]) -> Inquiry:
    """Order a probe. Raises `PipelineError`; `EvidenceError` where the library is missing."""
    from varlen.evidence.network import require_library

    require_library()
    return _ask(Inquiry(kind=Inquiry.Kind.PROBE, documents=[from_json(each).to_json() for each in documents], options=options), dataset)


def _ask(inquiry: Inquiry, dataset: Dataset) -> Inquiry:
    inquiry.dataset, inquiry.dataset_digest, inquiry.dataset_name = dataset, dataset.digest, dataset.name
    inquiry.save()
    carry_out.defer(inquiry_id=inquiry.pk)
    return inquiry


def cancel(inquiry: Inquiry) -> None:
    """Stop it soon. Raises `Conflict` for one that has ended."""
    if inquiry.state not in UNDER_WAY:
        raise Conflict("It has ended already.")
    Inquiry.objects.filter(pk=inquiry.pk).update(stop_asked=True)
    Inquiry.objects.filter(pk=inquiry.pk, state=State.WAITING).update(state=State.CANCELLED, message="cancelled")


def resume(inquiry: Inquiry) -> None:
    """Go on where it stopped. Raises `Conflict` for one that is under way or done."""
    if inquiry.state not in (State.STOPPED, State.CANCELLED):
        raise Conflict("Only what was stopped or cancelled can go on.")
    Inquiry.objects.filter(pk=inquiry.pk).update(state=State.WAITING, stop_asked=False, message="")
    carry_out.defer(inquiry_id=inquiry.pk)


def remove(inquiry: Inquiry) -> None:
    """Delete it with what it kept. Raises `Conflict` for one that is under way."""
    if inquiry.state in UNDER_WAY:
        raise Conflict("It is under way; cancel it first.")
    folder = inquiry.folder
    inquiry.delete()
    shutil.rmtree(folder, ignore_errors=True)
