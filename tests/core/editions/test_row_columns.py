"""Rows as columns: nothing is lost on the way, and the file is there whole or not at all."""

from __future__ import annotations

import json
from pathlib import Path

import pyarrow.compute
import pyarrow.parquet
import pytest
from varlen.datasets.formats import read_dataset
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.row_columns import write_columns
from varlen.editions.rows import read_rows
from varlen.errors import EditionError
from varlen.pipeline.document import read


@pytest.fixture(scope="module")
def edition(survey_folder: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    place = tmp_path_factory.mktemp("columns") / "edition"
    export(read_dataset(survey_folder), read(survey_folder / "pipelines" / "lamp-drift.varlen.json"), place, ExportSpec(4))
    return place


def test_every_row_comes_back_from_its_columns(edition: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("varlen.editions.row_columns.GROUP", 7)
    told: list[int] = []
    rows = list(read_rows(edition))
    assert write_columns(edition, tmp_path / "rows.parquet", told.append) == len(rows) == told[-1]
    assert told[0] == 7
    found = pyarrow.parquet.read_table(tmp_path / "rows.parquet").to_pylist(maps_as_pydicts="strict")
    for row, columns in zip(rows, found, strict=True):
        assert json.loads(columns["trace"]) == row["trace"]
        same = ("row", "file", "split", "source", "source_sha256", "source_labels", "variant", "file_sha256", "pixel_digest", "classes")
        assert {name: columns[name] for name in same} == {name: row.get(name) for name in same}
        assert columns["objects"] == sum(row["classes"].values())
        assert columns["dropped"] == row["trace"]["objects"]["dropped"]
        assert len(columns["clipped"]) == row["trace"]["objects"]["clipped"]
        assert [columns["width"], columns["height"]] == row["trace"]["size"]


def test_a_question_is_asked_of_the_columns_it_needs(edition: Path, tmp_path: Path) -> None:
    write_columns(edition, tmp_path / "rows.parquet")
    table = pyarrow.parquet.read_table(tmp_path / "rows.parquet", columns=["split", "blank_share"], filters=[("variant", ">", 0)])
    assert table.num_rows == sum(row["variant"] > 0 for row in read_rows(edition))
    most = max(row["trace"]["blank_share"] for row in read_rows(edition) if row["variant"] > 0)
    assert pyarrow.compute.max(table["blank_share"]).as_py() == most


def test_where_rows_are_damaged_no_file_is_left(edition: Path, tmp_path: Path) -> None:
    (tmp_path / "rows.jsonl").write_bytes((edition / "rows.jsonl").read_bytes() + b'{"row": \n')
    with pytest.raises(EditionError, match="damaged"):
        write_columns(tmp_path, tmp_path / "rows.parquet")
    assert [path.name for path in tmp_path.iterdir()] == ["rows.jsonl"]
    with pytest.raises(EditionError, match="No such file"):
        write_columns(edition, tmp_path / "missing" / "rows.parquet")
    with pytest.raises(EditionError, match="within the edition"):
        write_columns(edition, edition / "rows.parquet")
