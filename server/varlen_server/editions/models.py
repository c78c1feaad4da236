"""Editions and how far each has come."""

from __future__ import annotations

from pathlib import Path

from django.conf import settings
from django.db import models

from varlen_server.authorship import Authored
from varlen_server.datasets.models import Dataset
from varlen_server.pipelines.models import Revision


class Edition(Authored):
    """One export: what it is made from, and the progress of making it."""

    class State(models.TextChoices):
        WAITING = "waiting"
        WRITING = "writing"
        DONE = "done"
        STOPPED = "stopped"  # something must be fixed; what is written is kept for resuming
        FAILED = "failed"
        CANCELLED = "cancelled"

    name = models.CharField(max_length=140, unique=True)
    #: What tells it from others, in its owner's words; not part of its record.
    note = models.CharField(max_length=1000, default="", blank=True)
    #: Counts the editions of a dataset, from 1.
    number = models.PositiveIntegerField(default=1)
    #: None for an edition found in its folder whose dataset is not here any more.
    dataset = models.ForeignKey(Dataset, on_delete=models.PROTECT, null=True, related_name="editions")
    #: The snapshot it is made from; a dataset may be mended afterwards.
    dataset_digest = models.CharField(max_length=71, default="")
    dataset_name = models.CharField(max_length=200, default="")
    pipeline_digest = models.CharField(max_length=71, default="")
    revision = models.ForeignKey(Revision, on_delete=models.SET_NULL, null=True, related_name="editions")
    document = models.JSONField()
    order = models.JSONField()
    state = models.CharField(max_length=12, choices=State.choices, default=State.WAITING)
    stop_asked = models.BooleanField(default=False)
    leave_out = models.BooleanField(default=False)
    #: Images done when the worker last began, so that the rate is its own.
    begun_with = models.PositiveIntegerField(default=0)
    done = models.PositiveIntegerField(default=0)
    total = models.PositiveIntegerField(default=0)
    message = models.TextField(default="")
    output_digest = models.CharField(max_length=71, default="")
    record_digest = models.CharField(max_length=71, default="")
    #: The public key that it is signed with, in base64; "" for none.
    signed_by = models.CharField(max_length=44, default="")
    #: Kinds of labels that may be lost, as its orderer agreed to; and what of labels is lost.
    accept_loss = models.JSONField(default=list)
    lost = models.JSONField(default=list)
    counts = models.JSONField(default=dict)
    statistics = models.JSONField(default=dict)
    left_out = models.JSONField(default=list)
    #: The last check of its files: state, how far, what was found, when.
    check_state = models.JSONField(default=dict)
    #: Its last copy in an object store: state, URL, how far, what went wrong, when.
    copy_state = models.JSONField(default=dict)
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

    @property
    def part(self) -> Path:
        """Where it is being written."""
        return self.folder.with_name(f".{self.folder.name}.varlen-part")
