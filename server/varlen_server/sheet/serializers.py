"""What the API says of a contact sheet and its ledger."""

from __future__ import annotations

from rest_framework import serializers

from varlen_server.datasets.serializers import ObjectSerializer


class SheetRequestSerializer(serializers.Serializer):
    dataset = serializers.IntegerField()
    document = serializers.DictField()
    images = serializers.ListField(child=serializers.IntegerField(), max_length=60)
    variants = serializers.IntegerField(min_value=1, max_value=12)


class FateSerializer(serializers.Serializer):
    id = serializers.CharField()
    image = serializers.CharField()
    reason = serializers.CharField()
    step = serializers.CharField()
    share = serializers.FloatField()


class FatesSerializer(serializers.Serializer):
    kept = serializers.IntegerField()
    clipped = serializers.IntegerField()
    clipped_by = FateSerializer(many=True)
    dropped = FateSerializer(many=True)


class DrawnStepSerializer(serializers.Serializer):
    id = serializers.CharField()
    step = serializers.CharField()
    fired = serializers.BooleanField()
    drawn = serializers.DictField()


class TraceSerializer(serializers.Serializer):
    image = serializers.CharField()
    seed = serializers.IntegerField()
    variant = serializers.IntegerField()
    steps = DrawnStepSerializer(many=True)
    passes = serializers.IntegerField()
    size = serializers.ListField(child=serializers.IntegerField())
    blank_share = serializers.FloatField()
    objects = FatesSerializer()


class TileSerializer(serializers.Serializer):
    variant = serializers.IntegerField()
    address = serializers.CharField(help_text="add /<width>.jpg for the picture, /trace for the trace with its pixel digest")
    width = serializers.IntegerField()
    height = serializers.IntegerField()
    objects = ObjectSerializer(many=True)
    trace = TraceSerializer()
    error = serializers.CharField(allow_blank=True)


class RowSerializer(serializers.Serializer):
    image = serializers.IntegerField()
    tiles = TileSerializer(many=True)


class RunSerializer(serializers.Serializer):
    """Steps that share one resample."""

    steps = serializers.ListField(child=serializers.CharField())


class SheetSerializer(serializers.Serializer):
    pipeline_digest = serializers.CharField()
    rows = RowSerializer(many=True)
    runs = RunSerializer(many=True)


class LedgerRequestSerializer(serializers.Serializer):
    dataset = serializers.IntegerField()
    document = serializers.DictField()
    variants = serializers.IntegerField(min_value=0, max_value=1000)
    originals = serializers.BooleanField()


class BlameSerializer(serializers.Serializer):
    step = serializers.CharField()
    count = serializers.IntegerField()


class LedgerSerializer(serializers.Serializer):
    """Exact image counts; objects, blank share and passes over a sample of variants, labels only."""

    counts = serializers.DictField(child=serializers.IntegerField())
    total = serializers.IntegerField()
    sampled = serializers.IntegerField()
    kept = serializers.IntegerField()
    clipped = serializers.IntegerField()
    dropped = serializers.IntegerField()
    blame = BlameSerializer(many=True)
    blank_share = serializers.FloatField()
    passes = serializers.FloatField()
    bytes = serializers.IntegerField(help_text="estimated from a few variants really made")
    seconds = serializers.FloatField(help_text="estimated from a few variants really made, on all cores of this machine")
