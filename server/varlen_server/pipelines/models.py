"""Pipelines with their revisions, and every document a tile was ever made with."""

from __future__ import annotations

from itertools import zip_longest
from typing import Any

from django.db import IntegrityError, models, transaction
from varlen.pipeline.document import Pipeline as CorePipeline
from varlen.pipeline.document import differences, from_json

from varlen_server.authorship import Authored
from varlen_server.errors import Conflict


class Pipeline(Authored):
    """A pipeline as people know it; what it says stands in its revisions."""

    name = models.CharField(max_length=120)
    #: What tells it from others, in its owner's words.
    note = models.CharField(max_length=1000, default="", blank=True)
    created = models.DateTimeField(auto_now_add=True)
    changed = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ("id",)

    def __str__(self) -> str:
        return self.name


class Revision(Authored):
    """One saved state of a pipeline, in canonical form; never changed afterwards but for its name."""

    pipeline = models.ForeignKey(Pipeline, on_delete=models.CASCADE, related_name="revisions")
    number = models.PositiveIntegerField()
    name = models.CharField(max_length=120, default="")
    digest = models.CharField(max_length=71)
    document = models.JSONField()
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-number",)
        constraints = (models.UniqueConstraint(fields=("pipeline", "number"), name="one_revision_a_number"),)

    def __str__(self) -> str:
        return f"{self.pipeline} {self.number}"


class Document(models.Model):
    """A pipeline's canonical form under its digest: what tile addresses refer to."""

    digest = models.CharField(max_length=71, primary_key=True)
    document = models.JSONField()

    def __str__(self) -> str:
        return self.digest


#: Revisions that a list shows.
MOST_REVISIONS = 100


def register(*pipelines: CorePipeline) -> None:
    """Keep documents so that tiles can be addressed by their digests."""
    Document.objects.bulk_create([Document(digest=pipeline.digest, document=pipeline.to_json()) for pipeline in pipelines], ignore_conflicts=True)


def create(document: dict[str, Any]) -> Revision:
    """A new pipeline with its first revision. Raises `PipelineError`."""
    checked = from_json(document)
    with transaction.atomic():
        pipeline = Pipeline.objects.create(name=checked.name)
        return Revision.objects.create(pipeline=pipeline, number=1, digest=checked.digest, document=checked.to_json())


def save(pipeline: Pipeline, document: dict[str, Any], base: int) -> Revision:
    """A further revision on top of revision `base`; raises `Conflict` when there is a newer one."""
    checked = from_json(document)
    with transaction.atomic():
        latest = Pipeline.objects.select_for_update().get(pk=pipeline.pk).revisions.first()
        if latest is not None and latest.digest == checked.digest:
            return latest  # the same document is saved already
        if latest is not None and latest.number != base:
            raise Conflict(f"“{pipeline.name}” was changed elsewhere: it is at revision {latest.number}, this window has {base}.")
        try:
            revision = Revision.objects.create(pipeline=pipeline, number=base + 1, digest=checked.digest, document=checked.to_json())
        except IntegrityError:
            raise Conflict(f"“{pipeline.name}” was changed elsewhere at the same moment.") from None
        pipeline.name = checked.name
        pipeline.save(update_fields=["name", "changed"])
    return revision


def revision_lines(pipeline: Pipeline) -> list[dict[str, Any]]:
    """The newest revisions of a pipeline, the newest first, each with what changed since the one before."""
    rows = list(pipeline.revisions.all()[: MOST_REVISIONS + 1])
    lines = []
    for row, before in zip_longest(rows, rows[1:]):
        changes = differences(before.document, row.document) if before is not None else []
        lines.append({**{name: getattr(row, name) for name in ("id", "number", "name", "created", "made_by", "document")},
                      "changes": [each.to_json() for each in changes]})  # fmt: skip
    return lines[:MOST_REVISIONS]
