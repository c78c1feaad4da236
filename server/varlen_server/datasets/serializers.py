"""What the API says of datasets."""

from __future__ import annotations

from rest_framework import serializers

from varlen_server.datasets.models import Dataset, Image


class PartSerializer(serializers.Serializer):
    outline = serializers.ListField(child=serializers.ListField(child=serializers.FloatField()))
    holes = serializers.ListField(child=serializers.ListField(child=serializers.ListField(child=serializers.FloatField())))


class MaskSerializer(serializers.Serializer):
    left = serializers.IntegerField()
    top = serializers.IntegerField()
    width = serializers.IntegerField()
    height = serializers.IntegerField()
    counts = serializers.ListField(child=serializers.IntegerField())


class ObjectSerializer(serializers.Serializer):
    """One labelled object in continuous pixels; mask runs go down the columns of its own frame."""

    id = serializers.CharField()
    image = serializers.CharField()
    box = serializers.ListField(child=serializers.FloatField())
    polygon = PartSerializer(many=True, allow_null=True)
    mask = MaskSerializer(allow_null=True)
    keypoints = serializers.ListField(child=serializers.ListField(child=serializers.FloatField()))
    crowd = serializers.BooleanField()
    share = serializers.FloatField()

    def get_fields(self):  # type: ignore[no-untyped-def]
        """`class` is a word of Python's own, so it can't be an attribute above."""
        fields = super().get_fields()
        fields["class"] = serializers.CharField()
        return fields


class SplitCountSerializer(serializers.Serializer):
    split = serializers.CharField()
    images = serializers.IntegerField()
    objects = serializers.IntegerField()


class DatasetSerializer(serializers.ModelSerializer):
    splits = SplitCountSerializer(many=True, read_only=True)

    class Meta:
        model = Dataset
        fields = ("id", "name", "digest", "classes", "keypoints", "lines", "created", "splits")

    classes = serializers.ListField(child=serializers.CharField())
    keypoints = serializers.ListField(child=serializers.CharField())
    lines = serializers.ListField(child=serializers.ListField(child=serializers.IntegerField()))


class ImageSerializer(serializers.ModelSerializer):
    objects_json = ObjectSerializer(many=True)

    class Meta:
        model = Image
        fields = ("id", "key", "split", "width", "height", "sha256", "object_count", "objects_json")


class UploadSerializer(serializers.Serializer):
    file = serializers.FileField()
    name = serializers.CharField(max_length=200, required=False)


class MessageSerializer(serializers.Serializer):
    message = serializers.CharField()
    problems = serializers.ListField(child=serializers.CharField())
