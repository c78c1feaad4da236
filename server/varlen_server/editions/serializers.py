"""What the API says of editions."""

from __future__ import annotations

from rest_framework import serializers

from varlen_server.editions.models import Edition


class EditionSerializer(serializers.ModelSerializer):
    dataset = serializers.IntegerField(source="dataset_id")
    dataset_name = serializers.CharField(source="dataset.name")
    order = serializers.DictField()
    counts = serializers.DictField()
    document = serializers.DictField()
    pipeline_name = serializers.SerializerMethodField()
    path = serializers.SerializerMethodField()
    rate = serializers.SerializerMethodField()

    class Meta:
        model = Edition
        fields = ("id", "name", "dataset", "dataset_name", "pipeline_name", "document", "order", "state", "done", "total", "message",
                  "output_digest", "counts", "path", "rate", "created", "started", "finished")  # fmt: skip

    def get_pipeline_name(self, edition: Edition) -> str:
        return str(edition.document.get("name", ""))

    def get_path(self, edition: Edition) -> str:
        return str(edition.folder)

    def get_rate(self, edition: Edition) -> float:
        """Images a second so far."""
        from django.utils import timezone

        if edition.started is None or not edition.done:
            return 0.0
        seconds = ((edition.finished or timezone.now()) - edition.started).total_seconds()
        return round(edition.done / seconds, 1) if seconds > 0 else 0.0


class EditionRequestSerializer(serializers.Serializer):
    name = serializers.CharField(max_length=120)
    dataset = serializers.IntegerField()
    document = serializers.DictField()
    revision = serializers.IntegerField(required=False, allow_null=True)
    variants = serializers.IntegerField(min_value=0, max_value=1000, default=3)
    originals = serializers.BooleanField(default=True)
    format = serializers.ChoiceField(choices=["coco"], default="coco")
    image = serializers.ChoiceField(choices=["jpeg", "png", "webp"], default="jpeg")
    quality = serializers.IntegerField(min_value=1, max_value=100, default=90)
