"""What the numbers of a YOLO line are: shares, a detector's certainty, a track; and which of them are refused."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from varlen.datasets.formats import read_dataset
from varlen.errors import DatasetError

from tests.core.datasets.trees import write_tree


def test_yolo_lines_of_six_and_seven_numbers_are_boxes_with_their_certainty_and_track(tmp_path: Path) -> None:
    lines = "0 0.5 0.5 0.2 0.2 0.9 1\n0 0.25 0.5 0.1 0.2 0.8 150000\n"
    files: dict[str, Any] = {"images/a.png": (100, 50), "labels/a.txt": lines, "images/b.png": (100, 50), "labels/b.txt": "0 0.5 0.5 0.2 0.2 0.7\n",
                             "images/c.png": (100, 50), "labels/c.txt": "0 0.1 0.1 0.4 0.1 0.4 0.4\n", "data.yaml": "names: [moth]\n"}  # fmt: skip
    dataset = read_dataset(write_tree(tmp_path, files))
    a, b, c = (dataset.entries[f"images/{name}.png"].objects for name in "abc")
    assert np.allclose(a.boxes, [[40, 20, 60, 30], [20, 20, 30, 30]])
    assert a.attributes == ({"confidence": 0.9, "track_id": 1}, {"confidence": 0.8, "track_id": 150000})
    assert b.attributes == ({"confidence": 0.7},)
    assert [len(part.outline) for part in c.polygons[0] or ()] == [3]


@pytest.mark.parametrize("line", ["0 50 25 20 10", "0 0.5 0.5 0.2 1.02", "0 0.5 -0.02 0.2 0.2", "0 0.1 0.1 0.4 0.1 0.4 4.5 0.1 0.4"])
def test_yolo_numbers_that_are_no_shares_are_refused_by_line(tmp_path: Path, line: str) -> None:
    files: dict[str, Any] = {"images/a.png": (100, 50), "labels/a.txt": f"0 0.5 0.5 0.2 0.2\n{line}\n", "data.yaml": "names: [moth]\n"}
    with pytest.raises(DatasetError, match=r"labels/a\.txt, line 2: .* is no share of a picture's side"):
        read_dataset(write_tree(tmp_path, files))
