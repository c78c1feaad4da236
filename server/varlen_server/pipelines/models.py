"""Pipelines with their revisions, and every document a tile was ever made with."""

from __future__ import annotations

from django.db import models

from varlen_server.authorship import Authored


class Pipeline(Authored):
    """A pipeline as people know it; what it says stands in its revisions."""

    name = models.CharField(max_length=120)
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
