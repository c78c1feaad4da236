"""The contact sheet, its ledger and forecasts in the API."""

from __future__ import annotations

from typing import Any

from rest_framework import serializers

from varlen_server.datasets.serializers import ImageSerializer, ObjectSerializer
from varlen_server.previews import WIDTHS


def _width() -> serializers.ChoiceField:
    return serializers.ChoiceField([0, *WIDTHS], default=0, help_text="of the pictures that come with the answer, px; 0 for none")


class SheetRequestSerializer(serializers.Serializer):
    dataset = serializers.IntegerField()
    document = serializers.DictField()
    images = serializers.ListField(child=serializers.IntegerField(), max_length=60)
    variants = serializers.IntegerField(min_value=1, max_value=12)
    width = _width()


class OutcomeSerializer(serializers.Serializer):
    id = serializers.CharField()
    image = serializers.CharField()
    reason = serializers.CharField()
    step = serializers.CharField()
    share = serializers.FloatField()


class OutcomesSerializer(serializers.Serializer):
    kept = serializers.IntegerField()
    clipped = serializers.IntegerField()
    clipped_by = OutcomeSerializer(many=True)
    dropped = OutcomeSerializer(many=True)


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
    objects = OutcomesSerializer()


class TileSerializer(serializers.Serializer):
    variant = serializers.IntegerField()
    address = serializers.CharField(help_text="add /<width>.jpg for the picture, /trace for the trace with its pixel digest")
    picture = serializers.CharField(allow_blank=True, help_text="a data: address of the picture at the width asked for")
    picture_width = serializers.IntegerField()
    width = serializers.IntegerField()
    height = serializers.IntegerField()
    objects = ObjectSerializer(many=True)
    trace = TraceSerializer()
    classes = serializers.DictField(child=serializers.FloatField(), help_text="what the picture shows as a whole, and how much of it stands for each")
    loose = serializers.FloatField(help_text="how many times larger than its object the loosest box is, because only its corners could be turned")
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


class LooksRequestSerializer(serializers.Serializer):
    dataset = serializers.IntegerField()
    documents = serializers.ListField(child=serializers.DictField(), min_length=1, max_length=60)
    tiles = serializers.ListField(
        child=serializers.ListField(child=serializers.IntegerField(min_value=0), min_length=3, max_length=3),
        max_length=720,
        help_text="for each tile: which of the documents, the image, the variant (0: the original through the steps for every image)",
    )
    width = serializers.ChoiceField(WIDTHS, help_text="of the pictures, px")
    exact = serializers.BooleanField(default=True, help_text="whether quick looks are followed by exact pictures")

    def validate(self, attrs: dict[str, Any]) -> dict[str, Any]:
        if any(document >= len(attrs["documents"]) for document, _, _ in attrs["tiles"]):
            raise serializers.ValidationError({"tiles": ["A tile names a document that was not sent."]})
        return attrs


class LedgerRequestSerializer(serializers.Serializer):
    dataset = serializers.IntegerField()
    document = serializers.DictField()
    variants = serializers.IntegerField(min_value=0, max_value=1000)
    originals = serializers.BooleanField()
    total = serializers.IntegerField(min_value=0, default=0, help_text="exactly so many training images, in place of variants")
    per_class = serializers.IntegerField(min_value=0, default=0, help_text="at least so many labels of each class, likewise")
    balance = serializers.BooleanField(default=False, help_text="more variants of images that show rare classes")


class BlameSerializer(serializers.Serializer):
    step = serializers.CharField()
    count = serializers.IntegerField()


class ClassLabelsSerializer(serializers.Serializer):
    """Labels of a class in the training split: before, and after what the pipeline is expected to lose."""

    name = serializers.CharField()
    before = serializers.IntegerField()
    after = serializers.IntegerField()


class LedgerSerializer(serializers.Serializer):
    """Exact image counts; objects, blank share and passes over a sample of variants, labels only."""

    counts = serializers.DictField(child=serializers.IntegerField())
    class_objects = ClassLabelsSerializer(many=True)
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


class AdviceRequestSerializer(serializers.Serializer):
    dataset = serializers.IntegerField()
    document = serializers.DictField()


class ForecastRequestSerializer(AdviceRequestSerializer):
    draws = serializers.IntegerField(min_value=1, max_value=20_000, default=1000)


class LimitRequestSerializer(ForecastRequestSerializer):
    parameter = serializers.CharField(help_text="step id, dot, name of a range")
    lose_at_most = serializers.FloatField(min_value=0, max_value=1)


class ForecastObjectsSerializer(serializers.Serializer):
    before = serializers.IntegerField()
    kept = serializers.IntegerField()
    clipped = serializers.IntegerField()
    dropped = serializers.IntegerField()


class ForecastClassSerializer(serializers.Serializer):
    name = serializers.CharField()
    before = serializers.IntegerField()
    after = serializers.IntegerField()
    clipped = serializers.IntegerField()
    dropped = serializers.IntegerField()
    balance_before = serializers.FloatField()
    balance_after = serializers.FloatField()


class ForecastStepSerializer(serializers.Serializer):
    name = serializers.CharField()
    clipped = serializers.IntegerField()
    dropped = serializers.IntegerField()
    reasons = serializers.DictField(child=serializers.IntegerField())


class BeforeAfterSerializer(serializers.Serializer):
    before = serializers.DictField(child=serializers.FloatField())
    after = serializers.DictField(child=serializers.FloatField())


class KeypointsSerializer(serializers.Serializer):
    before = serializers.IntegerField()
    after = serializers.IntegerField()


class ForecastSerializer(serializers.Serializer):
    """What becomes of labels over many variants of the training images."""

    variants = serializers.IntegerField()
    images = serializers.IntegerField()
    objects = ForecastObjectsSerializer()
    lost_share = serializers.FloatField()
    classes = ForecastClassSerializer(many=True)
    steps = ForecastStepSerializer(many=True)
    box_side_px = BeforeAfterSerializer(help_text="quantiles of the square root of box areas")
    blank_share = serializers.DictField(child=serializers.FloatField())
    blank_bins = serializers.ListField(child=serializers.IntegerField(), help_text="variants by blank share, in twentieths of the picture")
    keypoints = KeypointsSerializer()
    passes = serializers.DictField(child=serializers.IntegerField())
    refused = serializers.DictField(child=serializers.IntegerField())


class LimitSerializer(serializers.Serializer):
    parameter = serializers.CharField()
    lose_at_most = serializers.FloatField()
    draws = serializers.IntegerField()
    lost_without = serializers.FloatField()
    ends = serializers.ListField(child=serializers.FloatField(), allow_null=True)
    lost_share = serializers.FloatField()


class WorstRequestSerializer(AdviceRequestSerializer):
    by = serializers.ChoiceField(["lost", "blank", "loose"], help_text="objects lost, share of the picture blank, or loosest box")
    count = serializers.IntegerField(min_value=1, max_value=50, default=6)


class WorstVariantSerializer(serializers.Serializer):
    """An image with the variant in which a pipeline does worst on it."""

    image = ImageSerializer()
    variant = serializers.IntegerField()
    value = serializers.FloatField(help_text="objects, share, or how many times larger than its object the box is")


class AdviceSerializer(serializers.Serializer):
    """Something that is allowed but rarely intended."""

    kind = serializers.CharField()
    step = serializers.CharField(allow_blank=True)
    says = serializers.CharField()
    why = serializers.CharField()


class SourcePixelSerializer(serializers.Serializer):
    key = serializers.CharField()
    x = serializers.FloatField(help_text="where it lies, px from the left")
    y = serializers.FloatField(help_text="px from the top")
    levels = serializers.ListField(child=serializers.IntegerField())


class TilePixelSerializer(serializers.Serializer):
    """A pixel of a variant, and what it comes from; null for blank area."""

    x = serializers.IntegerField()
    y = serializers.IntegerField()
    levels = serializers.ListField(child=serializers.IntegerField())
    source = SourcePixelSerializer(allow_null=True)  # type: ignore[assignment]


class MovesSerializer(serializers.Serializer):
    """One resample: points go through the matrix, after a bend where there is one."""

    steps = serializers.ListField(child=serializers.CharField())
    matrix = serializers.ListField(child=serializers.ListField(child=serializers.FloatField()))
    bent = serializers.BooleanField()
