"""Whatever files do, the answer is one line or a finding: thousands of seeded cases in processes of their own, and those found before."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest
from varlen.datasets.findings import check_dataset
from varlen.datasets.formats import read_dataset
from varlen.errors import ReadProblems, VarlenError

from tests.core.datasets.trees import write_tree
from tests.hostile.cases import KNOWN
from tests.hostile.run import read_all_ways

#: Cases a process reads; four processes make 1,040, twice as many in the battery.
EACH = 520 if os.environ.get("VARLEN_BATTERY") else 260
#: Memory of one process, bytes.
MOST = 1 << 30


@pytest.mark.slow
@pytest.mark.parametrize("part", range(4))
def test_seeded_cases(part: int) -> None:
    command = [sys.executable, "-m", "tests.hostile.run", str(part * EACH), str((part + 1) * EACH)]
    done = subprocess.run(command, capture_output=True, text=True, cwd=Path(__file__).resolve().parents[3], timeout=600)
    *faults, last = [json.loads(line) for line in done.stdout.splitlines()]
    assert faults == []
    assert done.stderr == ""
    assert (last["cases"], last["peak"] <= MOST) == (EACH, True)


@pytest.mark.parametrize("name", KNOWN)
def test_cases_that_were_found_before(name: str, tmp_path: Path) -> None:
    assert read_all_ways(write_tree(tmp_path / "set", KNOWN[name]), {}) == []


@pytest.mark.parametrize("name", KNOWN)
def test_each_of_them_is_named(name: str, tmp_path: Path) -> None:
    """Nothing of these is taken for good: it is refused, or among the problems or findings, with its file."""
    folder, problems = write_tree(tmp_path / "set", KNOWN[name]), ReadProblems(strict=False)
    refused = ""
    try:
        found = check_dataset(read_dataset(folder, problems=problems), problems)
    except VarlenError as error:
        refused, found = str(error), []
    assert len(refused.splitlines()) == 1 or any(each.severity == "error" for each in found) or name == "numbers over 64 bits"
