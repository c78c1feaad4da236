"""The script that puts faults into the code continues working: one fault, in a small file with quick tests."""

from __future__ import annotations

import subprocess
import sys

from tests.conftest import PROJECT


def test_a_fault_is_put_in_and_noticed() -> None:
    command = [
        sys.executable,
        PROJECT / "scripts" / "mutants.py",
        "--count",
        "1",
        "--seed",
        "3",
        "--jobs",
        "1",
        "--only",
        "core/varlen/atomic_files.py",
    ]
    done = subprocess.run([*command, "--tests", "test_atomic_files.py"], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    assert "1 of them tried" in done.stdout
    assert "| **all** | 1 | 1 (100%) |" in done.stdout


def test_every_area_and_its_tests_are_there() -> None:
    sys.path.insert(0, str(PROJECT / "scripts"))
    import mutants

    for area, tests in mutants.AREAS.items():
        assert (PROJECT / area).exists(), area
        assert all((PROJECT / (name if name.startswith("tests/") else f"tests/core/{name}")).exists() for name in tests), area
