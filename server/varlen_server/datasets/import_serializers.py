"""Imports in the API: the recognised dataset, its open questions, the chosen options, and the list of formats."""

from __future__ import annotations

from typing import Any

from rest_framework import serializers

from varlen_server.datasets.models import DatasetImport
from varlen_server.datasets.serializers import ObjectSerializer


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


class FoldersQuerySerializer(serializers.Serializer):
    path = serializers.CharField(default="", allow_blank=True, help_text="an allowed folder or one below; none for the allowed ones")


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
