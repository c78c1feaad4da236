"""Pipelines and steps in the API."""

from __future__ import annotations

from rest_framework import serializers

from varlen_server.pipelines.models import Pipeline, Revision


class RevisionSerializer(serializers.ModelSerializer):
    pipeline = serializers.IntegerField(source="pipeline_id")
    document = serializers.DictField()

    class Meta:
        model = Revision
        fields = ("id", "pipeline", "number", "name", "digest", "document", "created", "made_by")


class PipelineSerializer(serializers.ModelSerializer):
    latest = serializers.SerializerMethodField()

    class Meta:
        model = Pipeline
        fields = ("id", "name", "note", "created", "changed", "latest", "made_by", "changed_by")

    def get_latest(self, pipeline: Pipeline) -> int:
        latest = pipeline.revisions.first()
        return latest.number if latest else 0


class StartingPointSerializer(serializers.Serializer):
    """A pipeline to begin with."""

    task = serializers.CharField()
    why = serializers.CharField()
    document = serializers.DictField()


class DifferenceSerializer(serializers.Serializer):
    kind = serializers.ChoiceField(choices=["added", "removed", "moved", "changed", "pipeline"])
    step = serializers.CharField(allow_blank=True)
    name = serializers.CharField()
    lines = serializers.ListField(child=serializers.CharField())


class RevisionLineSerializer(serializers.Serializer):
    """A revision in the list of them, with what changed since the one before."""

    id = serializers.IntegerField()
    number = serializers.IntegerField()
    name = serializers.CharField(allow_blank=True)
    created = serializers.DateTimeField()
    made_by = serializers.CharField(allow_blank=True)
    document = serializers.DictField()
    changes = DifferenceSerializer(many=True)


class NoteSerializer(serializers.Serializer):
    note = serializers.CharField(max_length=1000, allow_blank=True, help_text="what tells it from others, in one's own words")


class NameSerializer(serializers.Serializer):
    name = serializers.CharField(max_length=120, allow_blank=True)


class CompareSerializer(serializers.Serializer):
    before = serializers.DictField()
    after = serializers.DictField()


class DocumentSerializer(serializers.Serializer):
    document = serializers.DictField()


class SaveSerializer(DocumentSerializer):
    base = serializers.IntegerField(help_text="the revision this was made from")


class ParameterSerializer(serializers.Serializer):
    """One parameter of a step, enough to build its control."""

    name = serializers.CharField()
    meaning = serializers.CharField()
    default = serializers.JSONField()
    control = serializers.CharField(help_text="span, number, whole, option, several, switch, levels, color, branches, probability or scope")
    unit = serializers.CharField()
    low = serializers.FloatField(required=False)
    high = serializers.FloatField(required=False)
    slider = serializers.ListField(child=serializers.FloatField(), required=False)
    whole = serializers.BooleanField(required=False)
    log = serializers.BooleanField(required=False)
    edges = serializers.BooleanField(required=False)
    when = serializers.DictField(child=serializers.ListField(child=serializers.CharField()), required=False)
    options = serializers.ListField(child=serializers.CharField(), required=False)


class StepSerializer(serializers.Serializer):
    step = serializers.CharField()
    kind = serializers.CharField()
    purpose = serializers.CharField()
    meaning = serializers.CharField()
    words = serializers.ListField(child=serializers.CharField())
    parameters = ParameterSerializer(many=True)
    schema = serializers.DictField()
