"""Editions and how far each has come."""

from __future__ import annotations

from pathlib import Path

from django.conf import settings
from django.db import models

from varlen_server.datasets.models import Dataset
from varlen_server.pipelines.models import Revision


class Edition(models.Model):
    """One export: what it is made from, and the progress of making it."""

    class State(models.TextChoices):
        WAITING = "waiting"
        WRITING = "writing"
        DONE = "done"
        FAILED = "failed"
        CANCELLED = "cancelled"

    name = models.CharField(max_length=120)
    dataset = models.ForeignKey(Dataset, on_delete=models.PROTECT, related_name="editions")
    revision = models.ForeignKey(Revision, on_delete=models.SET_NULL, null=True, related_name="editions")
    document = models.JSONField()
    order = models.JSONField()
    state = models.CharField(max_length=12, choices=State.choices, default=State.WAITING)
    stop_asked = models.BooleanField(default=False)
    done = models.PositiveIntegerField(default=0)
    total = models.PositiveIntegerField(default=0)
    message = models.TextField(default="")
    output_digest = models.CharField(max_length=71, default="")
    counts = models.JSONField(default=dict)
    created = models.DateTimeField(auto_now_add=True)
    started = models.DateTimeField(null=True)
    finished = models.DateTimeField(null=True)

    class Meta:
        ordering = ("-id",)

    def __str__(self) -> str:
        return self.name

    @property
    def folder(self) -> Path:
        """Where the edition lies once it is done."""
        return Path(settings.EDITIONS) / f"edition-{self.pk}"
