"""Editions in the API."""

from __future__ import annotations

from typing import Any

from django.utils import timezone
from drf_spectacular.utils import extend_schema_field
from rest_framework import serializers
from varlen.datasets.convert import KINDS, in_words
from varlen.datasets.formats import WRITERS
from varlen.datasets.image_files import IMAGE_TYPES
from varlen.editions.export_spec import MOST_IMAGES, MOST_VARIANTS

from varlen_server.datasets.serializers import NamedCountSerializer, ObjectSerializer, PageQuerySerializer
from varlen_server.editions.models import Edition
from varlen_server.pipelines.serializers import DifferenceSerializer
from varlen_server.sheet.serializers import TraceSerializer


class LeftOutSerializer(serializers.Serializer):
    source = serializers.CharField()  # type: ignore[assignment]
    variant = serializers.IntegerField()
    reason = serializers.CharField()


class CheckSerializer(serializers.Serializer):
    """The last check of an edition's files. state: "", checking or checked."""

    state = serializers.CharField(default="")
    done = serializers.IntegerField(default=0)
    count = serializers.IntegerField(default=0)
    problems = serializers.ListField(child=serializers.CharField(), default=list)
    at = serializers.CharField(default="")


class CopySerializer(serializers.Serializer):
    """An edition's last copy in an object store. state: "", copying, copied or failed."""

    state = serializers.CharField(default="")
    url = serializers.CharField(default="")
    done = serializers.IntegerField(default=0, help_text="files that are there")
    total = serializers.IntegerField(default=0)
    message = serializers.CharField(default="")
    at = serializers.CharField(default="")


class CopyRequestSerializer(serializers.Serializer):
    url = serializers.CharField(max_length=1000, help_text="a new folder, as s3://bucket/folder")


class EditionSerializer(serializers.ModelSerializer):
    order = serializers.DictField()
    counts = serializers.DictField()
    statistics = serializers.DictField()
    document = serializers.DictField()
    left_out = LeftOutSerializer(many=True)
    lost = serializers.SerializerMethodField()
    check_state = serializers.SerializerMethodField()
    copy_state = serializers.SerializerMethodField()
    pipeline_name = serializers.SerializerMethodField()
    pipeline = serializers.SerializerMethodField()
    revision_number = serializers.SerializerMethodField()
    dataset_changed = serializers.SerializerMethodField()
    path = serializers.SerializerMethodField()
    rate = serializers.SerializerMethodField()

    class Meta:
        model = Edition
        fields = (
            "id",
            "name",
            "note",
            "dataset",
            "dataset_name",
            "dataset_digest",
            "dataset_changed",
            "pipeline",
            "pipeline_name",
            "pipeline_digest",
            "revision_number",
            "document",
            "order",
            "state",
            "done",
            "total",
            "message",
            "output_digest",
            "record_digest",
            "signed_by",
            "number",
            "lost",
            "counts",
            "statistics",
            "left_out",
            "check_state",
            "copy_state",
            "path",
            "rate",
            "created",
            "started",
            "finished",
            "made_by",
            "changed_by",
        )

    def get_pipeline_name(self, edition: Edition) -> str:
        return str(edition.document.get("name", ""))

    def get_pipeline(self, edition: Edition) -> int | None:
        return edition.revision.pipeline_id if edition.revision else None

    def get_revision_number(self, edition: Edition) -> int | None:
        return edition.revision.number if edition.revision else None

    def get_dataset_changed(self, edition: Edition) -> bool:
        """True when the dataset is no longer what the edition was made from."""
        return edition.dataset is None or edition.dataset.digest != edition.dataset_digest

    @extend_schema_field(CheckSerializer)
    def get_check_state(self, edition: Edition) -> dict[str, Any]:
        return {"state": "", "done": 0, "count": 0, "problems": [], "at": "", **edition.check_state}

    @extend_schema_field(CopySerializer)
    def get_copy_state(self, edition: Edition) -> dict[str, Any]:
        return {"state": "", "url": "", "done": 0, "total": 0, "message": "", "at": "", **edition.copy_state}

    def get_lost(self, edition: Edition) -> list[str]:
        """What its format holds of the source not at all, or only in part, in words."""
        return [each if isinstance(each, str) else f"all {in_words(each)}" for each in edition.lost]

    def get_path(self, edition: Edition) -> str:
        return str(edition.folder)

    def get_rate(self, edition: Edition) -> float:
        """Images a second since the worker last began."""
        done = edition.done - edition.begun_with
        if edition.started is None or done <= 0:
            return 0.0
        seconds = ((edition.finished or timezone.now()) - edition.started).total_seconds()
        return round(done / seconds, 1) if seconds > 0 else 0.0


class OrderSerializer(serializers.Serializer):
    variants = serializers.IntegerField(min_value=0, max_value=MOST_VARIANTS, default=3)
    originals = serializers.BooleanField(default=True)
    total = serializers.IntegerField(min_value=0, max_value=MOST_IMAGES, default=0, help_text="exactly so many training images, in place of variants")
    per_class = serializers.IntegerField(min_value=0, max_value=MOST_IMAGES, default=0, help_text="at least so many labels of each class, likewise")
    balance = serializers.BooleanField(default=False, help_text="more variants of images that show rare classes")
    format = serializers.ChoiceField(choices=["", *sorted(WRITERS)], default="", help_text="none for the dataset's own")
    image = serializers.ChoiceField(choices=[each.name for each in IMAGE_TYPES], default="jpeg")
    quality = serializers.IntegerField(min_value=1, max_value=100, default=90)
    splits = serializers.ListField(child=serializers.CharField(), default=list, help_text="none for all")
    split_variants = serializers.DictField(
        child=serializers.IntegerField(min_value=0, max_value=MOST_VARIANTS), default=dict, help_text="variants of images of other splits"
    )


class AcceptLossField(serializers.ListField):
    """Kinds of labels that may be lost altogether."""

    child = serializers.ChoiceField(choices=[*KINDS, "all"])


class LossSerializer(serializers.Serializer):
    """All labels of a kind, of which the format keeps nothing."""

    kind = serializers.CharField()
    images = serializers.IntegerField(required=False)
    objects = serializers.IntegerField(required=False)
    says = serializers.CharField()


class ClassLabelsSerializer(serializers.Serializer):
    """Labels of a class in the training split, before, and after if the pipeline lost none."""

    name = serializers.CharField()
    before = serializers.IntegerField()
    after = serializers.IntegerField()


class EditionRequestSerializer(OrderSerializer):
    name = serializers.CharField(max_length=120)
    dataset = serializers.IntegerField()
    document = serializers.DictField()
    revision = serializers.IntegerField(required=False, allow_null=True)
    leave_out = serializers.BooleanField(default=False, help_text="skip images that can't be made")
    accept_loss = AcceptLossField(default=list)


class EstimateRequestSerializer(OrderSerializer):
    dataset = serializers.IntegerField()
    document = serializers.DictField()


class EstimateSerializer(serializers.Serializer):
    """What an edition would hold; bytes and seconds from a few images really made."""

    format = serializers.CharField()
    lost = LossSerializer(many=True)
    class_objects = ClassLabelsSerializer(many=True)
    counts = serializers.DictField(child=serializers.IntegerField())
    total = serializers.IntegerField()
    bytes = serializers.IntegerField()
    free = serializers.IntegerField(help_text="bytes free where editions lie")
    seconds = serializers.FloatField()


class ResumeSerializer(serializers.Serializer):
    leave_out = serializers.BooleanField(default=False)


class EditionRowSerializer(serializers.Serializer):
    """One image of an edition."""

    row = serializers.IntegerField()
    file = serializers.CharField()
    split = serializers.CharField()
    source = serializers.CharField()  # type: ignore[assignment]
    variant = serializers.IntegerField()
    file_sha256 = serializers.CharField()
    pixel_digest = serializers.CharField()
    trace = TraceSerializer()
    width = serializers.IntegerField()
    height = serializers.IntegerField()
    address = serializers.CharField(help_text="add /<width>.jpg for the picture")
    objects = ObjectSerializer(many=True, help_text="its labels; none when the source dataset is not here any more")
    source_image = serializers.IntegerField(allow_null=True, help_text="the image it was made from")
    image_classes = serializers.ListField(child=serializers.CharField(), help_text="what it shows as a whole")


class EditionPageSerializer(serializers.Serializer):
    """Rows that answer to the filters; steps, variants and lost are counted over all rows."""

    total = serializers.IntegerField()
    steps = NamedCountSerializer(many=True)
    variants = NamedCountSerializer(many=True)
    lost = serializers.IntegerField()
    rows = EditionRowSerializer(many=True)


class RecreatedSerializer(serializers.Serializer):
    identical = serializers.BooleanField()
    differences = serializers.ListField(child=serializers.CharField())


class ScoreSerializer(serializers.Serializer):
    name = serializers.CharField(max_length=120)
    value = serializers.FloatField()
    epoch = serializers.FloatField(allow_null=True, default=None)
    split = serializers.CharField(allow_blank=True, default="")
    note = serializers.CharField(allow_blank=True, default="")
    at = serializers.CharField(allow_blank=True, default="")
    run = serializers.CharField(allow_blank=True, max_length=120, default="", help_text="which training of several, such as a seed")


class CellScoreSerializer(serializers.Serializer):
    """A score over the runs of an edition: value is their mean; low and high a 95 % interval; difference to the dataset's baseline."""

    name = serializers.CharField()
    split = serializers.CharField()
    value = serializers.FloatField()
    n = serializers.IntegerField()
    spread = serializers.FloatField()
    low = serializers.FloatField()
    high = serializers.FloatField()
    difference = serializers.FloatField(allow_null=True)
    difference_low = serializers.FloatField(allow_null=True)
    difference_high = serializers.FloatField(allow_null=True)
    paired = serializers.BooleanField(allow_null=True)
    verdict = serializers.CharField(allow_null=True)


class ScoresRequestSerializer(serializers.Serializer):
    """Scores one by one, or the text of a file as trainers write them."""

    scores = ScoreSerializer(many=True, default=list)
    text = serializers.CharField(allow_blank=True, default="", trim_whitespace=False)
    source = serializers.CharField(default="the text")  # type: ignore[assignment]


class NamedImagesSerializer(serializers.Serializer):
    count = serializers.IntegerField()
    first = serializers.ListField(child=serializers.CharField())


class DatasetDifferenceSerializer(serializers.Serializer):
    same = serializers.BooleanField()
    names = serializers.ListField(child=serializers.CharField())
    classes_only = serializers.ListField(child=serializers.ListField(child=serializers.CharField()))
    images_only = NamedImagesSerializer(many=True, required=False)
    pictures = NamedImagesSerializer(required=False)
    labels = NamedImagesSerializer(required=False)
    splits = NamedImagesSerializer(required=False)


class PipelineDifferenceSerializer(serializers.Serializer):
    same = serializers.BooleanField()
    changes = DifferenceSerializer(many=True)


class EditionDifferenceSerializer(serializers.Serializer):
    same = serializers.BooleanField()
    output_digest = serializers.ListField(child=serializers.CharField())
    dataset = DatasetDifferenceSerializer()
    pipeline = PipelineDifferenceSerializer()
    order = serializers.DictField()
    seed = serializers.ListField(child=serializers.IntegerField())
    varlen = serializers.ListField(child=serializers.CharField())
    counts = serializers.DictField()
    statistics = serializers.ListField(child=serializers.DictField())


class CellSerializer(serializers.Serializer):
    """One pipeline on one dataset. edition: the newest made of just these; null where there is none."""

    dataset = serializers.IntegerField()
    pipeline = serializers.IntegerField()
    edition = serializers.IntegerField(allow_null=True)
    state = serializers.CharField(allow_blank=True)
    done = serializers.IntegerField()
    total = serializers.IntegerField()
    message = serializers.CharField(allow_blank=True)
    scores = CellScoreSerializer(many=True)


class TrialsStartSerializer(OrderSerializer):
    accept_loss = AcceptLossField(default=list)
    datasets = serializers.ListField(child=serializers.IntegerField(), max_length=50)
    pipelines = serializers.ListField(child=serializers.IntegerField(), max_length=200)


class EditionRowsQuerySerializer(PageQuerySerializer):
    """What an edition's images have to meet."""

    split = serializers.CharField(required=False, help_text="a split")
    step = serializers.CharField(required=False, help_text="a step that happened, by its id")
    lost = serializers.ChoiceField(["0", "1"], required=False, help_text="1: objects were lost, 0: none")
    variant = serializers.CharField(required=False, help_text="a variant's number")
    name = serializers.CharField(required=False, help_text="part of the source's path")
    source = serializers.CharField(required=False, help_text="the source's path")  # type: ignore[assignment]

    def get_fields(self) -> dict[str, serializers.Field]:
        """`class` is a word of Python's own, so it can't be an attribute above."""
        return {**super().get_fields(), "class": serializers.CharField(required=False, help_text="a class")}
