"""The labels that an edition keeps of its source: enough to make any row again, never trusted blindly, never taken for labels of its own."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from pathlib import Path

import orjson
import pytest
from varlen.datasets.digests import content_digest
from varlen.datasets.formats import read_dataset
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.record import SOURCES, read_record
from varlen.editions.recreate import recreate
from varlen.editions.rows import read_rows
from varlen.editions.source import dataset_of_row, source_of
from varlen.editions.verify import verify
from varlen.errors import VarlenError
from varlen.pipeline.document import from_json, read

from tests.core.golden.dataset import golden


@pytest.fixture(scope="module", autouse=True)
def kept() -> Iterator[None]:
    """Labels are kept of few images, too."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("varlen.editions.source.FEW", 0)
        yield


@pytest.fixture(scope="module")
def made(survey_folder: Path, tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    """A copy of the survey and an edition of it."""
    place = tmp_path_factory.mktemp("kept")
    source = Path(shutil.copytree(survey_folder, place / "survey"))
    export(read_dataset(source), read(source / "pipelines" / "lamp-drift.varlen.json"), place / "edition", ExportSpec(3))
    return source, place / "edition"


def test_a_row_is_made_again_without_the_label_files(made: tuple[Path, Path], tmp_path: Path) -> None:
    """The pictures suffice; where a dataset is named, its labels are read, and missed."""
    source, edition = made
    bare = Path(shutil.copytree(source, tmp_path / "bare"))
    shutil.rmtree(bare / "annotations")
    record = {**read_record(edition), "dataset_path": str(bare)}
    for row in list(read_rows(edition))[::5]:
        assert recreate(edition, row, source_of(edition, record, None, row=row)).identical  # type: ignore[arg-type]
        with pytest.raises(VarlenError):
            recreate(edition, row, source_of(edition, record, bare, row=row))  # type: ignore[arg-type]


def test_every_kind_of_label_comes_back_whole(tmp_path: Path) -> None:
    """Polygons with holes, masks, crowds, keypoints, attributes: as content digests see them, and so as steps do."""
    source = golden()
    export(source, from_json({"varlen_pipeline": 1, "seed": 1, "steps": []}), tmp_path / "out", ExportSpec(1), accept_loss=("all",))
    kinds = set()
    for row in read_rows(tmp_path / "out"):
        found = dataset_of_row(tmp_path / "out", row, "golden", source.files)
        before = source.entries[row["source"]]
        if before.label_map:
            assert found is None  # levels are read by rules that the dataset's own reading knows
            continue
        assert found is not None
        assert (found.classes, found.skeleton, found.mirror_classes) == (source.classes, source.skeleton, source.mirror_classes)
        after = found.entries[row["source"]]
        assert content_digest(after, found.classes, "", "") == content_digest(before, source.classes, "", "")
        assert after.objects.attributes == before.objects.attributes
        kinds |= {name for name, there in (("mask", any(before.objects.masks)), ("points", before.objects.keypoints.size)) if there}
    assert kinds == {"mask", "points"}


def test_labels_that_are_not_those_of_the_row_are_not_used(made: tuple[Path, Path], tmp_path: Path) -> None:
    """A changed file is found by `verify`; a row made again meanwhile takes the dataset's own labels."""
    edition = Path(shutil.copytree(made[1], tmp_path / "edition"))
    head, *lines = (edition / SOURCES).read_bytes().splitlines(keepends=True)
    moved = []
    for line in lines:
        said = orjson.loads(line)
        for each in said["objects"]:
            each["box"][0] += 1.0
        moved.append(orjson.dumps(said) + b"\n")
    (edition / SOURCES).write_bytes(head + b"".join(moved))
    assert verify(edition) == [{"file": SOURCES, "problem": "changed since it was written"}]
    row = next(row for row in read_rows(edition) if sum(row["classes"].values()))
    assert dataset_of_row(edition, row, "survey", golden().files) is None
    assert recreate(edition, row, source_of(edition, read_record(edition), None, row=row)).identical


def test_an_edition_read_as_a_dataset_does_not_hold_its_sources(made: tuple[Path, Path]) -> None:
    """The record's files are none of its labels."""
    again = read_dataset(made[1])
    assert len(again) == sum(split["images"] for split in read_record(made[1])["counts"].values())
