"""Imported datasets and their images."""

from __future__ import annotations

from django.db import models

from varlen_server.authorship import Authored
from varlen_server.fields import JSONTextField


class WithoutFindings(models.Manager["Dataset"]):
    """Findings name every place they were found at: they are read when asked for, not with each request."""

    def get_queryset(self) -> models.QuerySet[Dataset]:
        return super().get_queryset().defer("findings")


class Dataset(Authored):
    """A dataset as it was imported; `digest` is its snapshot.

    `ready` once all its images are there, before that nobody sees it; `examined` pictures were decoded
    to look for damage and likeness, by a job that is there while `examining`. `marks` says of classes
    what must not be done to them (see `varlen.forecasts.advice`); `source` is where the files were, "" if uploaded.
    """

    name = models.CharField(max_length=200)
    digest = models.CharField(max_length=71)
    ready = models.BooleanField(default=True)
    examined = models.PositiveIntegerField(default=0)
    examining = models.BooleanField(default=False)
    classes = models.JSONField(default=list)
    keypoints = models.JSONField(default=list)
    lines = models.JSONField(default=list)
    partners = models.JSONField(default=list)
    map_classes = models.JSONField(default=list)
    #: Classes that a mirror turns into each other, both ways.
    mirror_classes = models.JSONField(default=dict)
    #: The options it was read with, where they are not the usual ones (see `ImportOptions`).
    read_as = models.JSONField(default=dict)
    splits_drawn = models.BooleanField(default=False)
    format = models.CharField(max_length=40, default="coco")
    findings = models.JSONField(default=list)
    statistics = models.JSONField(default=dict)
    marks = models.JSONField(default=dict)
    source = models.TextField(default="")
    extra = models.JSONField(default=dict)
    created = models.DateTimeField(auto_now_add=True)

    objects = WithoutFindings()

    class Meta:
        ordering = ("id",)

    def __str__(self) -> str:
        return self.name


class Image(models.Model):
    """One image: `key` is its path within the dataset, `sha256` names its file in the store; likewise its label map's.

    `content` is its `content_digest`; `facts` is what its file's header says; `measures` holds float32
    numbers of each object: class, width and height of its box, visibility of each keypoint.

    `split`, `objects_json` and `left_out` are as edits left them; `unedited` keeps the first two as they
    were imported, once there is an edit.
    """

    dataset = models.ForeignKey(Dataset, on_delete=models.CASCADE, related_name="images")
    key = models.CharField(max_length=1000)
    split = models.CharField(max_length=40)
    width = models.PositiveIntegerField()
    height = models.PositiveIntegerField()
    sha256 = models.CharField(max_length=64)
    objects_json = JSONTextField(default=list)
    content = models.CharField(max_length=64, default="")
    facts = models.JSONField(default=dict)
    measures = models.BinaryField(default=bytes)
    object_count = models.PositiveIntegerField(default=0)
    smallest_side = models.FloatField(default=0)
    extra = models.JSONField(default=dict)
    group = models.CharField(max_length=300, default="")
    classes = models.JSONField(default=list)
    label_map = models.CharField(max_length=1000, default="")
    label_map_sha256 = models.CharField(max_length=64, default="")
    left_out = models.BooleanField(default=False)
    unedited = models.JSONField(null=True)

    class Meta:
        ordering = ("key",)
        constraints = (models.UniqueConstraint(fields=("dataset", "key"), name="one_image_a_key"),)
        indexes = (models.Index(fields=("dataset", "split")),)

    def __str__(self) -> str:
        return self.key


class Edit(models.Model):
    """A change that leaves the files as they are (see `varlen.datasets.edits`); those made together share a `batch`."""

    dataset = models.ForeignKey(Dataset, on_delete=models.CASCADE, related_name="edits")
    batch = models.PositiveIntegerField()
    why = models.CharField(max_length=60, default="")
    kind = models.CharField(max_length=20)
    image_key = models.CharField(max_length=1000)
    object_id = models.CharField(max_length=200, default="")
    value = models.CharField(max_length=40, default="")
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("batch", "id")
        indexes = (models.Index(fields=("dataset", "image_key")),)

    def __str__(self) -> str:
        return f"{self.kind} {self.image_key}"


class DatasetImport(Authored):
    """A dataset on its way in: its files are gathered, it is recognised, choices are made, it is read.

    `path` is what is read: a zip, an annotation file or a folder; `folder` is ours and removed at the end,
    "" where the files are somebody's own.
    """

    class State(models.TextChoices):
        GATHERING = "gathering"
        RECOGNISED = "recognised"
        WAITING = "waiting"
        READING = "reading"
        DONE = "done"
        FAILED = "failed"
        CANCELLED = "cancelled"

    name = models.CharField(max_length=200, default="")
    path = models.TextField(default="")
    folder = models.TextField(default="")
    state = models.CharField(max_length=12, choices=State.choices, default=State.GATHERING)
    stop_asked = models.BooleanField(default=False)
    recognised = models.JSONField(default=dict)
    choices = models.JSONField(default=dict)
    done = models.PositiveIntegerField(default=0)
    total = models.PositiveIntegerField(default=0)
    message = models.TextField(default="")
    dataset = models.ForeignKey(Dataset, on_delete=models.SET_NULL, null=True, related_name="imports")
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-id",)

    def __str__(self) -> str:
        return self.name
