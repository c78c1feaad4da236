"""What runs in the background: bringing in and examining, from beginning to end and after a worker's death."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import pytest
from varlen.datasets.findings.kinds import Finding
from varlen.errors import DatasetError
from varlen_server.content_store import path_of
from varlen_server.datasets import tasks
from varlen_server.datasets.models import Dataset, DatasetImport, Image
from varlen_server.datasets.tasks import _joined, clear, examine_dataset, import_dataset_task, scan_pixels

pytestmark = pytest.mark.django_db(transaction=True)
State = DatasetImport.State


def waiting(folder: Path, tmp_path: Path | None = None, **more: Any) -> DatasetImport:
    """An import of a folder; of a copy that was uploaded, where `tmp_path` is given."""
    own = ""
    if tmp_path is not None:
        folder = Path(shutil.copytree(folder, tmp_path / "uploaded" / "moths"))
        own = str(tmp_path / "uploaded")
    return DatasetImport.objects.create(name="Moths", path=str(folder), folder=own, choices={}, total=8, state=State.WAITING, **more)


def test_an_import_goes_from_waiting_to_done_and_its_upload_is_cleared_away(survey_folder: Path, tmp_path: Path) -> None:
    mine = waiting(survey_folder, tmp_path)
    import_dataset_task(mine.pk)
    mine.refresh_from_db()
    assert (mine.state, mine.message, mine.done) == (State.DONE, "", 8)
    assert mine.dataset is not None
    assert (mine.dataset.ready, mine.dataset.examining) == (True, True)  # its pictures are decoded next
    assert not (tmp_path / "uploaded").exists()
    examine_dataset(mine.dataset.pk)
    dataset = Dataset.objects.get(pk=mine.dataset.pk)
    assert (dataset.examining, dataset.examined) == (False, 8)
    assert dataset.statistics["split"] == "train"


def test_a_folder_of_somebody_s_own_stays_and_is_named_as_the_source(survey_folder: Path) -> None:
    mine = waiting(survey_folder)
    import_dataset_task(intake_id=mine.pk)  # as jobs of version 0.1 call it
    mine.refresh_from_db()
    assert mine.state == State.DONE
    assert mine.dataset is not None
    assert survey_folder.exists()


def test_what_can_t_be_read_ends_as_failed_with_the_reason(tmp_path: Path) -> None:
    (tmp_path / "empty").mkdir()
    mine = waiting(tmp_path / "empty")
    import_dataset_task(mine.pk)
    mine.refresh_from_db()
    assert (mine.state, mine.dataset) == (State.FAILED, None)
    assert "empty" in mine.message
    assert not Dataset.objects.exists()


@pytest.mark.parametrize("state", [State.DONE, State.CANCELLED, State.FAILED])
def test_an_import_that_is_over_is_not_begun_again(survey_folder: Path, state: str) -> None:
    mine = waiting(survey_folder)
    DatasetImport.objects.filter(pk=mine.pk).update(state=state)
    import_dataset_task(mine.pk)
    mine.refresh_from_db()
    assert (mine.state, mine.dataset) == (state, None)


def test_what_a_dead_worker_left_half_done_is_done_anew_and_what_it_had_finished_is_kept(survey_folder: Path) -> None:
    mine = waiting(survey_folder)
    import_dataset_task(mine.pk)
    whole = Dataset.objects.get()
    DatasetImport.objects.filter(pk=mine.pk).update(state=State.READING, dataset=whole)
    import_dataset_task(mine.pk)
    mine.refresh_from_db()
    assert (mine.state, mine.dataset) == (State.DONE, whole)
    Dataset.objects.filter(pk=whole.pk).update(ready=False)
    DatasetImport.objects.filter(pk=mine.pk).update(state=State.READING)
    import_dataset_task(mine.pk)
    mine.refresh_from_db()
    assert mine.state == State.DONE
    anew = Dataset.objects.get()
    assert anew.pk != whole.pk
    assert anew.digest == whole.digest
    assert Image.objects.count() == 8


def test_asked_to_stop_it_stops_at_the_next_sign_of_life(survey_folder: Path) -> None:
    mine = waiting(survey_folder, stop_asked=True)
    import_dataset_task(mine.pk)
    mine.refresh_from_db()
    assert (mine.state, mine.message, mine.dataset) == (State.CANCELLED, "cancelled", None)
    assert not Dataset.objects.exists()


def test_only_an_upload_of_one_s_own_is_cleared(tmp_path: Path, db: None) -> None:
    (tmp_path / "theirs").mkdir()
    clear(DatasetImport(path=str(tmp_path / "theirs"), folder=""))
    assert (tmp_path / "theirs").exists()


# --- decoding every picture ---


def test_a_dataset_that_is_gone_is_not_examined(db: None) -> None:
    examine_dataset(12345)


def test_an_examination_that_fails_leaves_nobody_waiting(moths: Dataset, monkeypatch: pytest.MonkeyPatch) -> None:
    def fail(*_: Any) -> None:
        raise DatasetError("the disk is gone")

    monkeypatch.setattr(tasks, "scan_pixels", fail)
    with pytest.raises(DatasetError):
        examine_dataset(moths.pk)
    assert not Dataset.objects.get(pk=moths.pk).examining


def test_damaged_pictures_are_left_out_by_an_edit_unless_all_are(moths: Dataset, settings: Any) -> None:
    first, *others = list(moths.images.order_by("key"))
    path_of(Path(settings.PICTURES), first.sha256).write_bytes(b"no picture")
    before = moths.digest
    scan_pixels(moths)
    moths.refresh_from_db()
    (edit,) = moths.edits.all()
    assert (edit.kind, edit.image_key, edit.why) == ("leave-out", first.key, "damaged-file")
    assert (moths.digest != before, moths.examined) == (True, 8)
    assert [each["count"] for each in moths.findings if each["kind"] == "damaged-file"] == [1]
    for image in others:
        path_of(Path(settings.PICTURES), image.sha256).write_bytes(b"no picture")
    scan_pixels(Dataset.objects.get(pk=moths.pk))
    assert moths.images.filter(left_out=False).count() == 7
    (damaged,) = (each for each in Dataset.objects.get(pk=moths.pk).findings if each["kind"] == "damaged-file")
    assert damaged["count"] == 8


def test_findings_of_one_kind_are_joined() -> None:
    def found(kind: str, *names: str) -> Finding:
        return Finding(kind, "error", len(names), list(names), "", "", "", [(name, "") for name in names])

    one, other = _joined([found("damaged-file", "a", "b", "c"), found("alike", "x"), found("damaged-file", "d", "e", "f")])
    assert (one.kind, one.count, one.examples, [key for key, _ in one.places]) == ("damaged-file", 6, list("abcdef"), list("abcdef"))
    assert (other.kind, other.count) == ("alike", 1)
