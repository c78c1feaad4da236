"""Step files written for version 0.1 import names that have moved since: they go on working."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

OLD_STEP = '''
from typing import Literal
from varlen.effects import Curve, Move, Recolor
from varlen.geometry import IDENTITY, Matrix, Point, Rect, Size, about, rotation, scaling, translation
from varlen.steps.base import ColorStep, DrawContext, Drawn, number


class Dusk(ColorStep):
    """Darken the picture by a factor."""

    step: Literal["dusk"] = "dusk"
    factor: float = number(0.5, "how bright it stays", unit="×", low=0, high=1)

    def draw(self, stream, context: DrawContext) -> Drawn:
        return {"factor": self.factor}

    def effect(self, drawn: Drawn, size: Size) -> Recolor:
        assert Matrix().then(translation(1, 2)) == Matrix(c=1.0, f=2.0)
        return Recolor.gains(*[drawn["factor"]] * 3)
'''


def test_a_step_file_of_version_0_1(tmp_path: Path) -> None:
    (tmp_path / "dusk.py").write_text(OLD_STEP)
    told = "from varlen.steps import CATALOGUE; from varlen.model import geometry; import varlen.geometry as old; assert old.Size is geometry.Size; "
    used = "step = CATALOGUE['dusk'](); print(step.effect(step.draw(None, None), geometry.Size(4, 3)).matrix[0])"
    environment = {**os.environ, "VARLEN_STEPS": str(tmp_path / "dusk.py")}
    done = subprocess.run([sys.executable, "-c", told + used], env=environment, capture_output=True, text=True, check=False)
    assert (done.stdout.strip(), done.returncode) == ("0.5", 0), done.stderr
