"""The services beside the models: what they choose, keep and refuse."""

from __future__ import annotations

from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.http import Http404
from django.utils import timezone
from rest_framework.exceptions import NotFound, ValidationError
from varlen.datasets.edits import Edit
from varlen.errors import DatasetError, EditionError
from varlen_server.datasets import imports
from varlen_server.datasets.edits import apply_edits, mend_finding, undo_last_edits
from varlen_server.datasets.models import Dataset, DatasetImport
from varlen_server.datasets.services import findings_of, images_for_sheet, split_counts
from varlen_server.editions import services, trials
from varlen_server.editions.models import Edition
from varlen_server.editions.recovery import adopt_folders, restart_lost_jobs
from varlen_server.editions.services import spec_of
from varlen_server.editions.tasks import make_edition
from varlen_server.errors import Conflict
from varlen_server.pipelines.models import Pipeline, create, revision_lines, save

pytestmark = pytest.mark.django_db(transaction=True)
ORDER = {"variants": 1, "originals": False, "format": "coco", "image": "jpeg", "quality": 90}


def moved(dataset: Dataset, split: str = "test") -> None:
    apply_edits(dataset, [Edit("move", dataset.images.filter(split="train").order_by("key").first().key, value=split)], "")  # type: ignore[union-attr]
    dataset.refresh_from_db()


def test_trials_make_again_what_was_made_from_another_state_of_a_dataset(moths: Dataset, lamp_drift: dict[str, Any]) -> None:
    revision = create(lamp_drift)
    (first,) = trials.start([moths.pk], [revision.pipeline_id], ORDER)
    assert first["edition"] is not None
    (again,) = trials.start([moths.pk], [revision.pipeline_id], ORDER)
    assert again["edition"] == first["edition"]  # nothing changed, nothing new
    digest = moths.digest
    moved(moths)
    assert moths.digest != digest
    (cell,) = trials.all_cells()
    assert cell["edition"] is None
    (newer,) = trials.start([moths.pk], [revision.pipeline_id], ORDER)
    assert newer["edition"] not in (None, first["edition"])
    assert Edition.objects.get(pk=newer["edition"]).dataset_digest == moths.digest
    undo_last_edits(moths)
    (back,) = trials.all_cells()
    assert back["edition"] == first["edition"]


def test_trials_make_again_what_was_made_by_an_earlier_revision_or_was_given_up(moths: Dataset, lamp_drift: dict[str, Any]) -> None:
    revision = create(lamp_drift)
    other = create({**lamp_drift, "name": "Other", "seed": 4})
    made = trials.start([moths.pk], [revision.pipeline_id], ORDER)[0]["edition"]
    assert [cell["edition"] for cell in trials.all_cells()] == [made, None]
    services.cancel(made)
    assert [cell["edition"] for cell in trials.all_cells()] == [None, None]
    later = save(revision.pipeline, {**lamp_drift, "seed": 99}, 1)
    cells = trials.start([moths.pk, 9999], [revision.pipeline_id, other.pipeline_id], ORDER)
    assert len(cells) == 2
    assert {Edition.objects.get(pk=cell["edition"]).pipeline_digest for cell in cells} == {later.digest, other.digest}
    assert Edition.objects.get(pk=cells[0]["edition"]).name == f"{moths.name}, {lamp_drift['name']} (2)"


def test_images_for_a_sheet(moths: Dataset) -> None:
    def keys(pick: str, **more: Any) -> list[str]:
        wish = {"split": "train", "count": 3, "turn": 0, "pinned": [], **more}
        return [image.key for image in images_for_sheet(moths, pick, **wish)]

    rows = list(moths.images.filter(split="train").order_by("key"))
    names = [image.key for image in rows]
    assert keys("spread") == [names[0], names[2], names[4]]
    assert keys("smallest") == [image.key for image in sorted(rows, key=lambda image: (image.smallest_side, image.key))[:3]]
    assert keys("most") == [image.key for image in sorted(rows, key=lambda image: (-image.object_count, image.key))[:3]]
    assert {*keys("random"), *keys("random", turn=1), *keys("random", turn=2)} > {*keys("random")}
    assert keys("random", turn=5) == keys("random", turn=5)
    assert keys("pinned", pinned=[rows[1].pk, rows[4].pk, 9999]) == [names[1], names[4]]
    assert len(keys("spread", count=60)) == 6
    assert len(keys("spread", split="elsewhere", count=60)) == 8  # no image there: all of them
    moths.images.filter(pk=rows[0].pk).update(left_out=True)
    assert names[0] not in keys("spread", count=60)
    assert keys("pinned", pinned=[rows[0].pk]) == []


def test_edits_come_in_batches_and_go_in_batches(moths: Dataset) -> None:
    first, second = list(moths.images.filter(split="train").order_by("key")[:2])
    digest = moths.digest
    before = split_counts(moths)
    assert apply_edits(moths, [Edit("move", first.key, value="test"), Edit("move", second.key, value="test")], "by hand") == 1
    assert apply_edits(moths, [Edit("leave-out", first.key)], "") == 2
    assert [(row["split"], row["images"]) for row in split_counts(moths)] == [("train", 4), ("validation", 1), ("test", 2)]
    assert findings_of(moths)["edits"] == [
        {"why": "by hand", "kind": "move", "count": 2, "example": first.key}, {"why": "", "kind": "leave-out", "count": 1, "example": first.key},
    ]  # fmt: skip
    assert undo_last_edits(moths) == 1
    assert undo_last_edits(moths) == 2
    assert undo_last_edits(moths) == 0
    assert (moths.digest, split_counts(moths)) == (digest, before)
    with pytest.raises(DatasetError, match="nothing to change"):
        apply_edits(moths, [Edit("leave-out", "no such image")], "")
    with pytest.raises(DatasetError, match="leave no image"):
        apply_edits(moths, [Edit("leave-out", key) for key in moths.images.values_list("key", flat=True)], "")
    with pytest.raises(NotFound):
        mend_finding(moths, "box-outside")


def test_uploads_stay_within_their_folder(db: None, settings: Any) -> None:
    begun = imports.begin("moths")
    folder = Path(begun.folder) / "files"
    upload = SimpleUploadedFile("a.jpg", b"123")
    imports.add_files(begun, [upload], ["train/a\x01b.jpg"])
    assert (folder / "train" / "a_b.jpg").read_bytes() == b"123"
    for place in ("../a.jpg", "/etc/a.jpg", "a/../../b.jpg", "..\\a.jpg", "a\x00.jpg", ".", ""):
        with pytest.raises(ValidationError):
            imports.add_files(begun, [SimpleUploadedFile("a.jpg", b"1")], [place])
    with pytest.raises(ValidationError, match="no file"):
        imports.add_files(begun, [], [])
    with pytest.raises(ValidationError, match="a path for each"):
        imports.add_files(begun, [upload], ["a.jpg", "b.jpg"])
    settings.LARGEST_UPLOAD = 2
    with pytest.raises(ValidationError, match="larger than"):
        imports.add_files(begun, [SimpleUploadedFile("a.jpg", b"123")], [])
    assert sorted(path.name for path in folder.rglob("*")) == ["a_b.jpg", "train"]


def test_only_folders_below_an_allowed_one_are_read(db: None, settings: Any, tmp_path: Path) -> None:
    allowed = tmp_path / "allowed"
    (allowed / "moths" / "images").mkdir(parents=True)
    (allowed / "plain").mkdir()
    (allowed / ".hidden").mkdir()
    (allowed / "a.zip").touch()
    (allowed / "a.txt").touch()
    (allowed / "out").symlink_to(tmp_path)
    settings.FOLDERS = [allowed]
    assert imports.folders_below("")["folders"] == [{"path": str(allowed), "name": str(allowed), "dataset": False}]
    found = imports.folders_below(str(allowed))
    assert [(each["name"], each["dataset"]) for each in found["folders"]] == [("a.zip", True), ("moths", True), ("out", False), ("plain", False)]
    assert found["above"] == ""
    assert imports.folders_below(str(allowed / "moths"))["above"] == str(allowed)
    for path in (tmp_path, allowed / "out", allowed / ".." / "other", Path("/etc")):
        with pytest.raises(DatasetError, match="not below"):
            imports.allowed_path(str(path))
    with pytest.raises(DatasetError, match="no such file"):
        imports.allowed_path(str(allowed / "gone"))
    with pytest.raises(DatasetError, match="not a path"):
        imports.allowed_path("a\x00b")
    with pytest.raises(NotFound, match="not a folder"):
        imports.folders_below(str(allowed / "a.txt"))


def test_uploads_that_nobody_went_on_with_are_removed(db: None, settings: Any) -> None:
    old, new = imports.begin("old"), imports.begin("new")
    DatasetImport.objects.filter(pk=old.pk).update(created=timezone.now() - timedelta(hours=25))
    imports.begin("third")
    assert not Path(old.folder).exists()
    assert Path(new.folder).exists()
    assert set(DatasetImport.objects.values_list("name", flat=True)) == {"new", "third"}
    with pytest.raises(Http404):
        imports.open_import_or_404(old.pk)


def test_an_edition_under_way_is_not_removed_and_a_removed_one_leaves_nothing(moths: Dataset, lamp_drift: dict[str, Any]) -> None:
    edition = services.order_edition("one", moths, lamp_drift, spec_of(ORDER), None)
    assert edition.total == 8
    with pytest.raises(Conflict, match="cancel it first"):
        services.remove(edition)
    with pytest.raises(NotFound):
        services.done_or_404(edition.pk)
    make_edition(edition_id=edition.pk)
    done = services.done_or_404(edition.pk)
    assert (done.state, done.done) == ("done", 8)
    folder = done.folder
    services.remove(done)
    assert not folder.exists()
    assert list(folder.parent.iterdir()) == []
    with pytest.raises(EditionError, match="known are"):
        spec_of({**ORDER, "format": "other"})


def test_adopted_editions_keep_their_numbers_and_new_ones_come_after(moths: Dataset, lamp_drift: dict[str, Any]) -> None:
    other = services.order_edition("another", moths, lamp_drift, spec_of(ORDER), None)
    edition = services.order_edition("one", moths, lamp_drift, spec_of(ORDER), None)
    make_edition(edition_id=edition.pk)
    number = edition.pk + 40
    edition.folder.rename(edition.folder.with_name(f"edition-{number}"))
    edition.delete()
    assert adopt_folders() == []
    adopted = services.done_or_404(number)
    assert (adopted.dataset_id, adopted.total, adopted.order) == (moths.pk, 8, {**ORDER})
    assert services.order_edition("next", moths, lamp_drift, spec_of(ORDER), None).pk == number + 1
    assert restart_lost_jobs() == 0
    assert adopt_folders() == []
    # One with a lower number than others have changes nothing for those to come.
    adopted.folder.rename(adopted.folder.with_name(f"edition-{other.pk + 3}"))
    adopted.delete()
    assert adopt_folders() == []
    assert services.done_or_404(other.pk + 3).total == 8
    assert services.order_edition("after", moths, lamp_drift, spec_of(ORDER), None).pk == number + 2
    (adopted.folder.parent / "edition-999").mkdir()
    (adopted.folder.parent / "edition-999" / "edition.json").write_text("{}")
    (problem,) = adopt_folders()
    assert "edition-999" in problem


def test_revisions_say_what_changed_since_the_one_before(lamp_drift: dict[str, Any]) -> None:
    first = create(lamp_drift)
    second = save(first.pipeline, {**lamp_drift, "seed": 5}, 1)
    assert save(first.pipeline, {**lamp_drift, "seed": 5}, 2).number == second.number == 2  # nothing changed
    with pytest.raises(Conflict, match="at revision 2, this window has 1"):
        save(first.pipeline, {**lamp_drift, "seed": 6}, 1)
    third = save(first.pipeline, {**lamp_drift, "seed": 5, "name": "Later"}, 2)
    lines = revision_lines(Pipeline.objects.get(pk=first.pipeline_id))
    assert [(line["number"], [each["lines"] for each in line["changes"]]) for line in lines] == [
        (3, [["name Lamp drift → Later"]]), (2, [["seed 20 → 5"]]), (1, []),
    ]  # fmt: skip
    assert Pipeline.objects.get(pk=first.pipeline_id).name == third.pipeline.name == "Later"
