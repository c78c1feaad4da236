"""Datasets in the API."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import extend_schema_field
from rest_framework import serializers
from varlen.datasets.skeleton import Skeleton, mirror_pairs
from varlen.forecasts.advice import MARKS

from varlen_server.datasets.models import Dataset, DatasetImport, Image
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


class RecognisedExampleSerializer(serializers.Serializer):
    key = serializers.CharField()
    width = serializers.IntegerField()
    height = serializers.IntegerField()
    objects = ObjectSerializer(many=True)


class LabelCountSerializer(serializers.Serializer):
    name = serializers.CharField()
    labels = serializers.IntegerField()


class AccountSerializer(serializers.Serializer):
    """How many of a dataset's files are what. question: what is to be said of those that could hold labels and are not read."""

    pictures = serializers.IntegerField()
    labels = serializers.IntegerField()
    side_files = serializers.IntegerField()
    unexplained = serializers.IntegerField()
    unexplained_files = serializers.ListField(child=serializers.CharField(), help_text="the first thousand")
    question = serializers.CharField(allow_blank=True)
    begins = serializers.ListField(child=serializers.CharField(), help_text="how the first of those begins, where it is text")


class DraftSerializer(serializers.Serializer):
    """How a reading recipe for files that nothing reads begins. rows: the file's first rows, or the keys of its first object with their values."""

    recipe = serializers.DictField()
    file = serializers.CharField()
    rows = serializers.ListField(child=serializers.ListField(child=serializers.CharField(allow_blank=True)))
    missing = serializers.ListField(child=serializers.CharField(), help_text="what the person has to say: class, box, picture")


class DoubtSerializer(serializers.Serializer):
    """What may be meant otherwise than it is read."""

    option = serializers.CharField(help_text="the option that answers it: form, levels")
    said = serializers.CharField()
    answers = serializers.DictField(child=serializers.CharField(), help_text="by the value of the option, what is so where it is given")


class RecognisedSerializer(serializers.Serializer):
    """What files seem to be. Splits and labels are of the first images alone, unless `exact`."""

    format = serializers.CharField()
    levels = serializers.CharField(allow_blank=True, default="", help_text="the rule for levels that it was looked at with")
    why = serializers.ListField(child=serializers.CharField(), default=list, help_text="files that spoke for the format, and such as do not fit")
    asks = serializers.ListField(
        child=serializers.CharField(), default=list, help_text="options that have to be given: mask_class, levels, ignore, form"
    )
    doubts = DoubtSerializer(many=True, required=False)
    files = AccountSerializer(required=False)
    draft = DraftSerializer(required=False, allow_null=True)
    reading = serializers.DictField(required=False, allow_null=True, help_text="the reading recipe that it is read by")
    images = serializers.IntegerField()
    exact = serializers.BooleanField()
    splits = serializers.DictField(child=serializers.IntegerField())
    splits_drawn = serializers.BooleanField(default=False, help_text="the files name no splits")
    classes = LabelCountSerializer(many=True)
    mirror_pairs = serializers.ListField(child=serializers.ListField(child=serializers.CharField()), default=list)
    unpaired = serializers.ListField(child=serializers.CharField(), default=list, help_text="keypoints that speak of a side and have no partner")
    columns = serializers.DictField(child=serializers.CharField(), default=dict, help_text="of a table: what is read from which column")
    unclear = serializers.IntegerField(default=0, help_text="pictures whose levels need a rule")
    remarks = serializers.ListField(child=serializers.CharField(), default=list)
    keypoints = serializers.ListField(child=serializers.CharField())
    label_map = serializers.ListField(child=serializers.CharField())
    fields = serializers.ListField(child=serializers.CharField(), help_text="fields of images that could name groups")  # type: ignore[assignment]
    turned = serializers.IntegerField(help_text="pictures with an EXIF orientation among the first")
    problems = serializers.ListField(child=serializers.CharField())
    problem_count = serializers.IntegerField()
    example = RecognisedExampleSerializer(allow_null=True)


class ImportSerializer(serializers.ModelSerializer):
    recognised = RecognisedSerializer(allow_null=True)

    class Meta:
        model = DatasetImport
        fields = ("id", "name", "state", "recognised", "done", "total", "message", "dataset", "made_by")

    def to_representation(self, instance: DatasetImport) -> dict[str, Any]:
        """Nothing recognised is null."""
        instance.recognised = instance.recognised or None
        return super().to_representation(instance)


class ImportRequestSerializer(serializers.Serializer):
    name = serializers.CharField(max_length=200, required=False, help_text="what the dataset is to be called")
    folder = serializers.CharField(required=False, help_text="a folder, zip or annotation file on the server's machine, below an allowed one")


class ImportFilesSerializer(serializers.Serializer):
    file = serializers.ListField(child=serializers.FileField())
    path = serializers.ListField(child=serializers.CharField(max_length=1000), required=False, help_text="where each lies in the dataset's folder")


class FormatSerializer(serializers.Serializer):
    format = serializers.CharField(required=False, allow_blank=True, help_text="the format, in place of what is recognised")
    levels = serializers.CharField(required=False, allow_blank=True, max_length=80, help_text="a rule for levels beyond 8 bits")
    reading = serializers.DictField(required=False, allow_null=True, help_text="a reading recipe that says how its label files are read")


class NamePairsField(serializers.ListField):
    """Pairs of names."""

    child = serializers.ListField(child=serializers.CharField(max_length=200), min_length=2, max_length=2)


class ImportOptionsSerializer(serializers.Serializer):
    name = serializers.CharField(max_length=200, required=False)
    form = serializers.CharField(required=False, allow_blank=True)
    exif = serializers.ChoiceField(choices=["upright", "stored"], required=False)
    splits = serializers.ChoiceField(choices=["files", "drawn"], required=False)
    shares = serializers.ListField(child=serializers.FloatField(min_value=0, max_value=1), min_length=2, max_length=2, required=False)
    seed = serializers.IntegerField(min_value=0, required=False)
    groups = serializers.CharField(required=False, allow_blank=True, max_length=300)
    classes = serializers.ListField(
        child=serializers.ListField(child=serializers.CharField(allow_blank=True), min_length=2, max_length=2), required=False
    )
    stratify = serializers.BooleanField(required=False)
    mask_class = serializers.CharField(required=False, allow_blank=True, max_length=200)
    levels = serializers.CharField(required=False, allow_blank=True, max_length=80)
    mirror_pairs = NamePairsField(required=False, allow_null=True)
    mirror_classes = NamePairsField(required=False)
    tile = serializers.ListField(
        child=serializers.IntegerField(min_value=32, max_value=16384), min_length=2, max_length=2, required=False, allow_null=True
    )
    overlap = serializers.IntegerField(min_value=0, max_value=16384, required=False)
    ignore = serializers.ListField(
        child=serializers.CharField(max_length=1000), max_length=1000, required=False, help_text="patterns of files that are not looked at"
    )
    reading = serializers.DictField(required=False, allow_null=True, help_text="the reading recipe that says how its label files are read")


class FolderSerializer(serializers.Serializer):
    path = serializers.CharField()
    name = serializers.CharField()
    dataset = serializers.BooleanField(help_text="whether it looks like a dataset")


class FoldersSerializer(serializers.Serializer):
    path = serializers.CharField(help_text='"" for the list of allowed folders')
    above = serializers.CharField(allow_null=True)
    folders = FolderSerializer(many=True)


class MarksSerializer(serializers.Serializer):
    """What must not be done to classes: not-mirrored, upright."""

    marks = serializers.DictField(child=serializers.ListField(child=serializers.ChoiceField(choices=MARKS)))


class FoldersQuerySerializer(serializers.Serializer):
    path = serializers.CharField(default="", allow_blank=True, help_text="an allowed folder or one below; none for the allowed ones")


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


class FormatFactsSerializer(serializers.Serializer):
    """A dataset format: its word in commands, what people call it, and what can be done with it."""

    name = serializers.CharField()
    title = serializers.CharField()
    reading_title = serializers.CharField(help_text="what it is called where datasets are read")
    reads = serializers.BooleanField()
    writes = serializers.BooleanField()
    coded = serializers.BooleanField(help_text="whether pictures are coded as JPEG, PNG or WebP; else they are arrays")
    convention = serializers.CharField(allow_blank=True, help_text="how labels are read")
    layout = serializers.CharField(help_text="where pictures and labels are in a written dataset, as Markdown")


class ImageTypeSerializer(serializers.Serializer):
    name = serializers.CharField()
    title = serializers.CharField()
    lossy = serializers.BooleanField(help_text="whether it has a quality")


class FormatsSerializer(serializers.Serializer):
    formats = FormatFactsSerializer(many=True)
    images = ImageTypeSerializer(many=True)


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
