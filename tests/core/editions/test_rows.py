"""Finding one row of many."""

from __future__ import annotations

from pathlib import Path

import orjson
import pytest
from hypothesis import given
from hypothesis import strategies as st
from varlen.editions.rows import find_row
from varlen.errors import EditionError


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
