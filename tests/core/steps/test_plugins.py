"""Steps from a file of the user's own: in the catalogue, the schema, an export, and refused with one line when they can't be used."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import PROJECT

EXAMPLE = PROJECT / "docs" / "examples" / "lamp_hum.py"


def run(steps: str, *words: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run([sys.executable, "-m", "varlen", *words], env={**os.environ, "VARLEN_STEPS": steps}, capture_output=True, text=True)


@pytest.mark.slow
def test_the_documented_example_is_a_step_like_any_other(survey_folder: Path, tmp_path: Path) -> None:
    listed = json.loads(run(str(EXAMPLE), "steps", "--json").stdout)
    assert [about["step"] for about in listed].count("lamp_hum") == 1
    file = tmp_path / "hum.varlen.json"
    file.write_text(json.dumps({"varlen_pipeline": 1, "steps": [{"step": "lamp_hum", "strength": [0.2, 0.2]}, {"step": "rotate"}]}))
    assert "there is no step 'lamp_hum'" in run("", "pipeline", "check", str(file)).stderr
    for workers in ("1", "2"):
        done = run(
            str(EXAMPLE), "export", str(survey_folder), str(file), "-o", str(tmp_path / workers), "--variants", "1", "--workers", workers, "--json"
        )
        assert done.returncode == 0, done.stderr
    records = [json.loads((tmp_path / workers / "edition.json").read_text()) for workers in ("1", "2")]
    assert records[0]["output_digest"] == records[1]["output_digest"]
    assert list(records[0]["outside_steps"]) == ["lamp_hum"]
    assert run(str(EXAMPLE), "recreate", str(tmp_path / "1"), "1").stdout.endswith("identical\n")


@pytest.mark.parametrize(
    ("code", "message"),
    [
        ("import nothing_like_this", "ModuleNotFoundError"),
        ("x = 1", "there is no step in it"),
        ("def broken(:", "SyntaxError"),
        (
            "from typing import Literal\nfrom varlen.steps.base import DetailStep\nclass Flip(DetailStep):\n    step: Literal['flip'] = 'flip'",
            "'flip' is taken",
        ),
    ],
)
def test_files_that_can_t_be_used(tmp_path: Path, code: str, message: str) -> None:
    file = tmp_path / "mine.py"
    file.write_text(code)
    done = run(str(file), "steps")
    assert done.returncode == 1
    assert done.stderr.count("\n") == 1
    assert done.stderr.startswith(str(file))
    assert message in done.stderr


def test_a_step_that_gives_back_something_else_is_named(survey_folder: Path, tmp_path: Path) -> None:
    (tmp_path / "mine.py").write_text(
        "from typing import Literal\nfrom varlen.steps.base import DetailStep\n"
        "class Halve(DetailStep):\n    'Halve it.'\n    step: Literal['halve'] = 'halve'\n"
        "    def draw(self, stream, context): return {}\n    def apply(self, pixels, values): return pixels[::2]\n"
    )
    (tmp_path / "p.varlen.json").write_text(json.dumps({"varlen_pipeline": 1, "steps": [{"step": "halve"}]}))
    done = run(
        str(tmp_path / "mine.py"), "export", str(survey_folder), str(tmp_path / "p.varlen.json"), "-o", str(tmp_path / "out"), "--workers", "1"
    )
    assert done.returncode == 1
    assert done.stderr.startswith(
        "images/train/night_0001.jpg, variant 1: step halve: must give back uint8 (720, 960, 3), not uint8 (360, 960, 3) (what was written is kept"
    )
