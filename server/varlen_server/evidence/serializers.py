"""Matches and probes in the API."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import extend_schema_field
from rest_framework import serializers

from varlen_server.datasets.models import Image
from varlen_server.evidence.models import Inquiry

#: Pictures of the field that are shown.
SHOWN = 12


class FieldPictureSerializer(serializers.Serializer):
    """A picture of the field outside of what the variants cover. sha256: of its file, for its address."""

    key = serializers.CharField()
    conditions = serializers.ListField(child=serializers.CharField())
    sha256 = serializers.CharField()


class InquirySerializer(serializers.ModelSerializer):
    """A match or a probe. result: as `varlen match --json` and `varlen probe --json` print it; empty until it is done."""

    documents = serializers.ListField(child=serializers.DictField())
    options = serializers.DictField()
    result = serializers.DictField()
    pictures = serializers.SerializerMethodField()

    class Meta:
        model = Inquiry
        fields = ("id", "kind", "dataset", "dataset_digest", "dataset_name", "field", "field_name", "documents", "options", "state", "share",
                  "seconds_left", "doing", "message", "result", "pictures", "created", "started", "finished", "made_by", "changed_by")  # fmt: skip

    @extend_schema_field(FieldPictureSerializer(many=True))
    def get_pictures(self, inquiry: Inquiry) -> list[dict[str, Any]]:
        """Of a match: the field's pictures that the variants cover least, with what they lie outside of."""
        outside = {each["picture"]: each["conditions"] for each in inquiry.result.get("uncovered", [])[:SHOWN]}
        if not outside or inquiry.field is None:
            return []
        there = {image.key: image.sha256 for image in Image.objects.filter(dataset=inquiry.field, key__in=list(outside))}
        return [{"key": key, "conditions": names, "sha256": there[key]} for key, names in outside.items() if key in there]


class InquiryRowSerializer(serializers.ModelSerializer):
    """One of the list: without the values of its plots."""

    names = serializers.SerializerMethodField()

    class Meta:
        model = Inquiry
        fields = (
            "id",
            "kind",
            "dataset",
            "dataset_name",
            "field_name",
            "names",
            "state",
            "share",
            "seconds_left",
            "doing",
            "message",
            "created",
            "made_by",
        )

    def get_names(self, inquiry: Inquiry) -> list[str]:
        """Of its pipelines."""
        return [str(document.get("name", "")) for document in inquiry.documents]


class MatchRequestSerializer(serializers.Serializer):
    dataset = serializers.IntegerField(min_value=1, help_text="training pictures")
    field = serializers.IntegerField(min_value=1, help_text="a dataset of pictures from where the model will work; its labels may be missing")
    document = serializers.DictField(required=False, allow_null=True, default=None, help_text="the pipeline whose variants are compared")


class ProbeRequestSerializer(serializers.Serializer):
    dataset = serializers.IntegerField(min_value=1)
    documents = serializers.ListField(child=serializers.DictField(), min_length=1, max_length=8, help_text="pipelines; none is always added")
    seeds = serializers.IntegerField(min_value=1, max_value=30, default=3)
    minutes = serializers.FloatField(min_value=0.2, max_value=600, required=False, allow_null=True, default=None)


class InquiryQuerySerializer(serializers.Serializer):
    kind = serializers.ChoiceField(choices=Inquiry.Kind.choices, required=False)
    dataset = serializers.IntegerField(min_value=1, required=False)


class PlaceSerializer(serializers.Serializer):
    """A suggested pipeline for the bench: the given one with the chosen steps in their places."""

    document = serializers.DictField()
    steps = serializers.ListField(child=serializers.DictField(), max_length=20)


class DocumentSerializer(serializers.Serializer):
    document = serializers.DictField()
