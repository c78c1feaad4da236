"""Imported datasets and their images."""

from __future__ import annotations

from django.db import models


class Dataset(models.Model):
    """A dataset as it was imported; `digest` is its snapshot."""

    name = models.CharField(max_length=200)
    digest = models.CharField(max_length=71)
    classes = models.JSONField(default=list)
    keypoints = models.JSONField(default=list)
    lines = models.JSONField(default=list)
    extra = models.JSONField(default=dict)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("id",)

    def __str__(self) -> str:
        return self.name


class Image(models.Model):
    """One image: `key` is its path within the dataset, `sha256` names its file in the store."""

    dataset = models.ForeignKey(Dataset, on_delete=models.CASCADE, related_name="images")
    key = models.CharField(max_length=1000)
    split = models.CharField(max_length=40)
    width = models.PositiveIntegerField()
    height = models.PositiveIntegerField()
    sha256 = models.CharField(max_length=64)
    objects_json = models.JSONField(default=list)
    object_count = models.PositiveIntegerField(default=0)
    smallest_side = models.FloatField(default=0)
    extra = models.JSONField(default=dict)

    class Meta:
        ordering = ("key",)
        constraints = (models.UniqueConstraint(fields=("dataset", "key"), name="one_image_a_key"),)
        indexes = (models.Index(fields=("dataset", "split")),)

    def __str__(self) -> str:
        return self.key
