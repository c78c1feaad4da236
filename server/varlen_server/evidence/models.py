"""An inquiry: a match with a field, or a probe of pipelines, and what came of it."""

from __future__ import annotations

from pathlib import Path

from django.conf import settings
from django.db import models

from varlen_server.authorship import Authored
from varlen_server.datasets.models import Dataset


class Inquiry(Authored):
    """One match or probe: what is asked, how far it is, and the answer."""

    class Kind(models.TextChoices):
        MATCH = "match"
        PROBE = "probe"

    class State(models.TextChoices):
        WAITING = "waiting"
        RUNNING = "running"
        DONE = "done"
        STOPPED = "stopped"  # something must be changed; what is done of a probe is kept
        CANCELLED = "cancelled"

    kind = models.CharField(max_length=8, choices=Kind.choices)
    dataset = models.ForeignKey(Dataset, on_delete=models.CASCADE, related_name="inquiries")
    #: The snapshot it was asked about.
    dataset_digest = models.CharField(max_length=71)
    dataset_name = models.CharField(max_length=200)
    #: Of a match: the pictures of the field.
    field = models.ForeignKey(Dataset, on_delete=models.SET_NULL, null=True, related_name="+")
    field_name = models.CharField(max_length=200, default="")
    #: Pipelines in canonical form, with their names.
    documents = models.JSONField(default=list)
    #: Of a probe: seeds and minutes.
    options = models.JSONField(default=dict)
    state = models.CharField(max_length=12, choices=State.choices, default=State.WAITING)
    stop_asked = models.BooleanField(default=False)
    #: 0 … 1, and about how long the rest takes.
    share = models.FloatField(default=0.0)
    seconds_left = models.FloatField(null=True)
    doing = models.CharField(max_length=80, default="")
    message = models.TextField(default="")
    result = models.JSONField(default=dict)
    created = models.DateTimeField(auto_now_add=True)
    started = models.DateTimeField(null=True)
    finished = models.DateTimeField(null=True)

    class Meta:
        ordering = ("-id",)

    def __str__(self) -> str:
        return f"{self.kind} {self.pk}"

    @property
    def folder(self) -> Path:
        """Where the runs of a probe are kept until it is done."""
        return Path(settings.EDITIONS).parent / "probes" / f"probe-{self.pk}"
