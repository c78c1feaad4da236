"""Datasets in the API."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import extend_schema_field
from rest_framework import serializers
from varlen.datasets.skeleton import Skeleton, mirror_pairs
from varlen.forecasts.advice import MARKS

from varlen_server.datasets.models import Dataset, Image
from varlen_server.datasets.services import split_counts


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
    oriented = serializers.ListField(
        child=serializers.ListField(child=serializers.FloatField()), required=False, help_text="four corners of an oriented box, where there is one"
    )

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
    splits = serializers.SerializerMethodField()

    class Meta:
        model = Dataset
        fields = ("id", "name", "digest", "classes", "keypoints", "lines", "created", "splits", "format", "marks", "source", "map_classes",
                  "mirror_pairs", "mirror_classes", "splits_drawn", "made_by", "changed_by")  # fmt: skip

    marks = serializers.DictField(child=serializers.ListField(child=serializers.CharField()))

    classes = serializers.ListField(child=serializers.CharField())
    keypoints = serializers.ListField(child=serializers.CharField())
    map_classes = serializers.ListField(child=serializers.CharField(), help_text="what the levels of label maps mean; none without label maps")
    lines = serializers.ListField(child=serializers.ListField(child=serializers.IntegerField()))

    mirror_pairs = serializers.SerializerMethodField()
    mirror_classes = serializers.DictField(child=serializers.CharField(), help_text="classes that a mirror turns into each other, both ways")

    def get_mirror_pairs(self, dataset: Dataset) -> list[list[str]]:
        """Keypoints that a mirror turns into each other."""
        return mirror_pairs(Skeleton(tuple(dataset.keypoints), (), tuple(dataset.partners)))

    @extend_schema_field(SplitCountSerializer(many=True))
    def get_splits(self, dataset: Dataset) -> list[dict[str, Any]]:
        """Images and objects of every split."""
        return split_counts(dataset)


class ImageSerializer(serializers.ModelSerializer):
    objects_json = ObjectSerializer(many=True)
    classes = serializers.ListField(child=serializers.CharField())

    class Meta:
        model = Image
        fields = ("id", "key", "split", "width", "height", "sha256", "object_count", "objects_json", "group", "classes")


class ImagePageSerializer(serializers.Serializer):
    total = serializers.IntegerField()
    images = ImageSerializer(many=True)


class ClassCountSerializer(serializers.Serializer):
    name = serializers.CharField()
    splits = serializers.DictField(child=serializers.IntegerField())
    total = serializers.IntegerField()


class BinSerializer(serializers.Serializer):
    low = serializers.FloatField()
    high = serializers.FloatField()
    count = serializers.IntegerField()


class NamedCountSerializer(serializers.Serializer):
    name = serializers.CharField()
    count = serializers.IntegerField()


class VisibilitySerializer(serializers.Serializer):
    name = serializers.CharField()
    visible = serializers.IntegerField()
    hidden = serializers.IntegerField()
    absent = serializers.IntegerField()


class BoxGridSerializer(serializers.Serializer):
    """Boxes by width (columns) and height (rows) in half octaves: column c stands for 2^((left + c) / 2) px and more."""

    left = serializers.IntegerField()
    bottom = serializers.IntegerField()
    counts = serializers.ListField(child=serializers.ListField(child=serializers.IntegerField()))


class OverviewSerializer(serializers.Serializer):
    dataset = DatasetSerializer()
    classes = ClassCountSerializer(many=True)
    label_map = serializers.ListField(child=serializers.CharField())
    sizes = NamedCountSerializer(many=True, help_text="images by width × height")
    kinds = NamedCountSerializer(many=True, help_text="images by file format and pixel mode")
    sides = BinSerializer(many=True, help_text="objects by the square root of their box's area, px")
    aspects = BinSerializer(many=True, help_text="objects by width over height")
    boxes = BoxGridSerializer()
    objects = BinSerializer(many=True, help_text="images by their number of objects")
    visibility = VisibilitySerializer(many=True, help_text="objects by the visibility of each keypoint")
    split = serializers.CharField(help_text="the split that the levels are of")
    mean = serializers.ListField(child=serializers.FloatField(), help_text="per channel, exact")
    std = serializers.ListField(child=serializers.FloatField())
    levels = serializers.ListField(child=serializers.ListField(child=serializers.IntegerField()), help_text="per channel, in 64 steps of 4 levels")
    range = serializers.ListField(child=serializers.ListField(child=serializers.IntegerField()), help_text="lowest and highest level per channel")
    examining = serializers.BooleanField(help_text="whether pictures are still being decoded to look at them")
    examined = serializers.IntegerField()


class ExifSerializer(serializers.Serializer):
    name = serializers.CharField()
    value = serializers.CharField()


class ImageFindingSerializer(serializers.Serializer):
    kind = serializers.CharField()
    object = serializers.CharField()


class ImageFactsSerializer(serializers.Serializer):
    image = ImageSerializer()
    format = serializers.CharField(default="")
    mode = serializers.CharField(default="")
    width = serializers.IntegerField(default=0, help_text="as stored")
    height = serializers.IntegerField(default=0)
    orientation = serializers.IntegerField(default=1)
    bits = serializers.IntegerField(default=8, help_text="of a channel")
    bytes = serializers.IntegerField(default=0)
    exif = ExifSerializer(many=True)
    findings = ImageFindingSerializer(many=True)


class FindingSerializer(serializers.Serializer):
    kind = serializers.CharField()
    severity = serializers.ChoiceField(choices=["error", "warning", "note"])
    count = serializers.IntegerField()
    examples = serializers.ListField(child=serializers.CharField())
    why = serializers.CharField()
    remedy = serializers.CharField()
    edit = serializers.CharField(help_text="what mends it: leave-out, clip-box, drop-object, or nothing")
    mended = serializers.BooleanField()


class EditBatchSerializer(serializers.Serializer):
    why = serializers.CharField(help_text="the finding that was mended")
    kind = serializers.CharField()
    count = serializers.IntegerField()
    example = serializers.CharField()


class FindingsSerializer(serializers.Serializer):
    findings = FindingSerializer(many=True)
    edits = EditBatchSerializer(many=True)
    digest = serializers.CharField()


class EditRequestSerializer(serializers.Serializer):
    """Either a finding to mend, or one change of its own."""

    finding = serializers.CharField(required=False)
    kind = serializers.ChoiceField(choices=["leave-out", "clip-box", "drop-object", "move"], required=False)
    image = serializers.CharField(required=False)
    object = serializers.CharField(required=False)
    value = serializers.CharField(required=False)


class MessageSerializer(serializers.Serializer):
    message = serializers.CharField()
    problems = serializers.ListField(child=serializers.CharField())


class MarksSerializer(serializers.Serializer):
    """What must not be done to classes: not-mirrored, upright."""

    marks = serializers.DictField(child=serializers.ListField(child=serializers.ChoiceField(choices=MARKS)))


class NumbersField(serializers.CharField):
    """Whole numbers with commas between them; what is no number is passed over."""

    def to_internal_value(self, data: Any) -> Any:
        return [int(part) for part in super().to_internal_value(data).split(",") if part.isascii() and part.isdigit() and len(part) < 19]


class SheetImagesQuerySerializer(serializers.Serializer):
    pick = serializers.ChoiceField(["spread", "smallest", "most", "random", "pinned"], default="spread")
    count = serializers.IntegerField(min_value=1, max_value=60, default=6)
    split = serializers.CharField(default="train")
    turn = serializers.IntegerField(min_value=0, max_value=2**31, default=0, help_text="another random choice for each")
    images = NumbersField(default="", help_text="numbers of images, with commas, for the pick “pinned”")


class PageQuerySerializer(serializers.Serializer):
    """A page of a long list."""

    offset = serializers.IntegerField(min_value=0, max_value=2**31, default=0)
    count = serializers.IntegerField(min_value=1, max_value=200, default=60)


class ImagesQuerySerializer(PageQuerySerializer):
    """What images have to meet; of objects, one has to meet all that is asked of objects."""

    split = serializers.CharField(required=False, help_text="a split")
    finding = serializers.CharField(required=False, help_text="a kind of finding")
    name = serializers.CharField(required=False, help_text="part of the name")
    size = serializers.CharField(required=False, help_text="width×height of the image")
    kind = serializers.CharField(required=False, help_text="the sort of file, as the overview names it")
    objects = serializers.CharField(required=False, help_text="number of objects, low-high")
    side = serializers.CharField(required=False, help_text="side of an object, px, low-high")
    width = serializers.CharField(required=False, help_text="width of an object, px, low-high")
    height = serializers.CharField(required=False, help_text="height of an object, px, low-high")
    aspect = serializers.CharField(required=False, help_text="width over height of an object, low-high")
    keypoint = serializers.CharField(required=False, help_text="an object's keypoint and its state, name:visible")

    def get_fields(self) -> dict[str, serializers.Field]:
        """`class` is a word of Python's own, so it can't be an attribute above."""
        return {**super().get_fields(), "class": serializers.CharField(required=False, help_text="a class")}


class DatasetUsesSerializer(serializers.Serializer):
    """What needs a dataset. jobs: those at it now; pictures and bytes: what nothing else shows."""

    editions = serializers.ListField(child=serializers.CharField())
    jobs = serializers.ListField(child=serializers.CharField())
    inquiries = serializers.IntegerField(help_text="matches and probes about it, which go with it")
    pictures = serializers.IntegerField()
    bytes = serializers.IntegerField()


class SureQuerySerializer(serializers.Serializer):
    sure = serializers.BooleanField(default=False, help_text="also where editions can then no longer be recreated")


class FreedSerializer(serializers.Serializer):
    pictures = serializers.IntegerField()
    bytes = serializers.IntegerField()


class PixelQuerySerializer(serializers.Serializer):
    """A pixel's column and row."""

    x = serializers.IntegerField(min_value=0, max_value=100_000)
    y = serializers.IntegerField(min_value=0, max_value=100_000)


class PixelSerializer(serializers.Serializer):
    x = serializers.IntegerField()
    y = serializers.IntegerField()
    levels = serializers.ListField(child=serializers.IntegerField())
