"""Datasets read from and editions written to an object store: a real server that speaks S3, on loopback."""

from __future__ import annotations

from pathlib import Path

import pytest
import varlen as v
from typer.testing import CliRunner
from varlen.cli.main import app
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import read_dataset
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.signature import new_key, signer_of
from varlen.editions.to_store import MARK, copy_to_store, staging_of
from varlen.editions.verify import verify
from varlen.errors import DatasetError, EditionError, VarlenError
from varlen.executors import Cancelled
from varlen.stores import Store, url_of

from tests.conftest import make_pipeline, send_folder

run = CliRunner()
PIPELINE = make_pipeline({"step": "flip", "probability": 0.5}, {"step": "rotate", "degrees": [-9, 9]}, seed=3)


@pytest.fixture
def stored(bucket: Store, survey_folder: Path) -> str:
    """The survey in the bucket."""
    send_folder(bucket, survey_folder, "survey")
    return f"{bucket.url}/survey"


def test_what_is_read_from_a_store_is_what_is_read_from_a_folder(stored: str, survey: Dataset) -> None:
    found = read_dataset(stored)
    assert (found.digest(), found.origin) == (survey.digest(), stored)
    key = next(iter(found.entries))
    assert (found.pixels(key) == survey.pixels(key)).all()


@pytest.mark.parametrize("form", ["coco", "yolo", "npz"])
def test_an_edition_in_a_store_is_the_one_in_a_folder(stored: str, bucket: Store, survey: Dataset, tmp_path: Path, form: str) -> None:
    """Read there, written there, by processes: the same to the byte, and nothing of it is left on this machine."""
    spec = ExportSpec(2, format=form)
    here = export(survey, PIPELINE, tmp_path / "here", spec, accept_loss=["all"])
    url = f"{bucket.url}/edition"
    there = export(read_dataset(stored), PIPELINE, url, spec, workers=2, accept_loss=["all"])
    assert there["output_digest"] == here["output_digest"]
    assert set(Store(url).listed()) == {path.relative_to(tmp_path / "here").as_posix() for path in (tmp_path / "here").rglob("*") if path.is_file()}
    assert verify(url, record=there["record_digest"]) == []
    assert v.recreate(url, 3).identical
    assert not staging_of(url).parent.exists()
    with pytest.raises(EditionError, match="there is an edition here already"):
        export(survey, PIPELINE, url, spec, resume=True, accept_loss=["all"])


def test_an_edition_in_a_store_is_signed_there(bucket: Store, survey: Dataset, tmp_path: Path) -> None:
    public, other = new_key(tmp_path / "maker"), new_key(tmp_path / "other")
    url = f"{bucket.url}/signed"
    v.export(survey, PIPELINE, url, variants=0, sign=tmp_path / "maker")
    assert v.verify(url, signed_by=public)
    assert v.verify(url, signed_by=other).problems == [{"file": "signature.json", "problem": "is not of this key"}]
    assert signer_of(Path(url))
    Store(url).remove("signature.json")
    assert v.verify(url, signed_by=public).problems == [{"file": "signature.json", "problem": "there is none"}]


def test_nothing_is_complete_before_all_is_there_and_it_goes_on(
    bucket: Store, survey: Dataset, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Stopped while pictures are made, then while the last are sent; resumed, it is what it would have been."""
    url = f"{bucket.url}/edition"
    asked = iter([False, False, True] + [True] * 100)
    with pytest.raises(Cancelled):
        export(survey, PIPELINE, url, ExportSpec(8), stop=lambda: next(asked))
    assert set(Store(url).listed()) >= {MARK}
    assert "edition.json" not in Store(url).listed()
    with pytest.raises(VarlenError):
        verify(url)
    with pytest.raises(EditionError, match="--resume continues with it"):
        export(survey, PIPELINE, url, ExportSpec(8))

    sent, real = [], Store.send

    def breaks(self: Store, file: Path, path: str) -> None:
        if path == "edition.json":
            raise VarlenError("the line is cut")
        sent.append(path)
        real(self, file, path)

    monkeypatch.setattr(Store, "send", breaks)
    monkeypatch.setattr("varlen.editions.to_store.ATTEMPTS", 1)
    with pytest.raises(EditionError, match="the line is cut"):
        export(survey, PIPELINE, url, ExportSpec(8), resume=True)
    assert "edition.json" not in Store(url).listed()
    monkeypatch.undo()
    monkeypatch.setenv("VARLEN_SCRATCH", str(tmp_path / "scratch"))
    again: list[str] = []
    monkeypatch.setattr(Store, "send", lambda self, file, path: (again.append(path), real(self, file, path))[1])
    there = export(survey, PIPELINE, url, ExportSpec(8), resume=True)
    assert again == ["edition.json"]
    here = export(survey, PIPELINE, tmp_path / "here", ExportSpec(8))
    assert there["output_digest"] == here["output_digest"]
    assert verify(url) == []


def test_a_copy_that_is_interrupted_goes_on_and_is_whole_at_the_end(
    bucket: Store, survey: Dataset, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A store that fails half way leaves no edition there; the next copy sends what is missing; another edition is kept out."""
    record = export(survey, PIPELINE, tmp_path / "here", ExportSpec(1))
    url, real, sent = f"{bucket.url}/copy", Store.send, []

    def failing(store: Store, file: Path, path: str) -> None:
        if len(sent) >= 5:
            raise VarlenError("the line is dead")
        real(store, file, path)
        sent.append(path)

    monkeypatch.setattr("varlen.editions.to_store.ATTEMPTS", 1)
    monkeypatch.setattr(Store, "send", failing)
    with pytest.raises(EditionError, match="the line is dead"):
        copy_to_store(tmp_path / "here", url)
    assert "edition.json" not in Store(url).listed()
    export(survey, PIPELINE, tmp_path / "other", ExportSpec(2))
    with pytest.raises(EditionError, match="is not empty"):
        copy_to_store(tmp_path / "other", url)
    before = len(sent)
    monkeypatch.setattr(Store, "send", lambda store, file, path: (real(store, file, path), sent.append(path))[0])
    told: list[tuple[int, int]] = []
    copy_to_store(tmp_path / "here", url, lambda *each: told.append(each))
    assert not set(sent[:before]) & set(sent[before:])
    assert sent[-1] == "edition.json"
    assert told[-1][0] == told[-1][1] == len(Store(url).listed())
    assert verify(url, record=record["record_digest"]) == []  # type: ignore[arg-type]
    with pytest.raises(EditionError, match="there is an edition here already"):
        copy_to_store(tmp_path / "here", url)


def test_damage_in_a_store_is_found(bucket: Store, survey: Dataset) -> None:
    url = f"{bucket.url}/edition"
    export(survey, PIPELINE, url, ExportSpec(1))
    store = Store(url)
    pictures = sorted(path for path in store.listed() if path.startswith("images/train/"))
    store.write(pictures[0], b"another picture")
    store.remove(pictures[1])
    store.write("images/train/more.jpg", b"x")
    found = {each["file"]: each["problem"] for each in verify(url)}
    assert found == {pictures[0]: "changed since it was written", pictures[1]: "missing", "images/train/more.jpg": "not part of the edition"}


def test_from_the_terminal(stored: str, bucket: Store, survey_folder: Path) -> None:
    pipeline = str(survey_folder / "pipelines" / "lamp-drift.varlen.json")
    url = f"{bucket.url}/by-hand"
    made = run.invoke(app, ["export", stored, pipeline, "-o", url, "--variants", "1", "--workers", "1"])
    assert made.exit_code == 0, (made.output, made.exception)
    checked = run.invoke(app, ["verify", url])
    assert checked.exit_code == 0, (checked.output, checked.exception)
    looked = run.invoke(app, ["inspect", stored])
    assert looked.exit_code == 0, (looked.output, looked.exception)


def test_what_can_t_be_reached_is_said_in_one_line(bucket: Store) -> None:
    with pytest.raises(DatasetError, match=r"s3://.*/nothing: there is nothing here"):
        read_dataset(f"{bucket.url}/nothing")
    with pytest.raises(VarlenError) as error:
        Store("s3://no-such-bucket-anywhere/x").read("y")
    assert "\n" not in str(error.value)


@pytest.mark.parametrize("wrong", ["http://169.254.169.254/latest", "https://moths.example/a", "ftp://x/y", "s3://key:secret@bucket/x", "s3://bucket/../other",
                                   "s3://bucket/a?versionId=1", "s3://bucket//a", "file:///etc"])  # fmt: skip
def test_addresses_that_are_no_folder_in_a_store_are_refused(wrong: str) -> None:
    with pytest.raises(VarlenError):
        url_of(wrong)


def test_paths_stay_paths(tmp_path: Path) -> None:
    for place in (tmp_path, "moths", "a:b", "c:/moths", "./s3", Path("x/s3:/y")):
        assert url_of(place) is None
    assert url_of(Path("s3://bucket/moths/")) == url_of("s3://bucket/moths") == "s3://bucket/moths"
