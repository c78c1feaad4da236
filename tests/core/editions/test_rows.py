"""Finding one row of many."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import orjson
import pytest
from hypothesis import given
from hypothesis import strategies as st
from varlen.datasets.formats import read_dataset
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.recreate import recreate
from varlen.editions.rows import find_row, read_rows
from varlen.editions.source import source_of
from varlen.errors import EditionError
from varlen.pipeline.document import from_json


def write(folder: Path, lengths: list[int]) -> None:
    """Rows of all lengths."""
    lines = [orjson.dumps({"row": number, "file": f"images/train/{number}.jpg", "more": "x" * length}) for number, length in enumerate(lengths)]
    (folder / "rows.jsonl").write_bytes(b"".join(line + b"\n" for line in lines))


@given(st.lists(st.integers(0, 400), min_size=1, max_size=60))
def test_every_row_is_found_by_number_and_by_file(tmp_path_factory: pytest.TempPathFactory, lengths: list[int]) -> None:
    folder = tmp_path_factory.mktemp("rows")
    write(folder, lengths)
    for number in range(len(lengths)):
        assert find_row(folder, str(number))["row"] == number
        assert find_row(folder, f"images/train/{number}.jpg")["row"] == number
    for wrong in (str(len(lengths)), "-1", "images/train", "x"):
        with pytest.raises(EditionError, match="there is no row"):
            find_row(folder, wrong)


def test_a_late_row_of_many_is_found_by_a_few_looks(tmp_path: Path) -> None:
    """Of 200,000 rows no more than some dozens of lines are read."""
    write(tmp_path, [300] * 200_000)
    reads = []
    real = orjson.loads
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("varlen.editions.rows.orjson.loads", lambda line: (reads.append(1), real(line))[1])
        assert find_row(tmp_path, "199998")["row"] == 199998
    assert len(reads) < 40


def test_a_row_is_made_again_from_the_labels_of_its_own_images(survey_folder: Path, lamp_drift: dict[str, Any], tmp_path: Path) -> None:
    """Of the source no others are read, and what is made is the same to the byte, mosaics of several pictures as well."""
    record = export(read_dataset(survey_folder), from_json(lamp_drift), tmp_path / "out", ExportSpec(6))
    alone = 0
    for row in read_rows(tmp_path / "out"):
        found = source_of(tmp_path / "out", record, None, row=row)
        assert set(found.entries) == {row["source"], *row["trace"].get("partners_sha256", {})}
        assert recreate(tmp_path / "out", row, found).identical
        alone += len(found) == 1
    assert 0 < alone < record["counts"]["train"]["images"]
