"""The notebook runs from a fresh copy of the demo, and the one that is kept holds what it shows."""

from __future__ import annotations

import json
import os
import shutil
import sys
from pathlib import Path

import pytest

from tests.docs.blocks import PROJECT

sys.path.insert(0, str(PROJECT / "scripts"))


def test_the_notebook_runs_and_shows_what_it_holds(full_survey: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    import notebook

    monkeypatch.setenv("PATH", f"{Path(sys.executable).parent}:{os.environ['PATH']}")
    shutil.copytree(full_survey, tmp_path / "moths")
    fresh, kept = notebook.run(notebook.written(), tmp_path), json.loads(notebook.NOTEBOOK.read_text())

    def shown(cells: list[dict]) -> list[tuple[str, list[str]]]:
        """Each cell's text with the words it showed; pictures are compared by their kind, for codecs may differ."""
        return [
            ("".join(cell["source"]), ["".join(output.get("data", {}).get("text/plain", "")) for output in cell.get("outputs", [])]) for cell in cells
        ]

    assert shown(fresh["cells"]) == shown(kept["cells"]), "run `make notebook`"
    pictures = [output for cell in kept["cells"] for output in cell.get("outputs", []) if "image/png" in output.get("data", {})]
    assert len(pictures) == 3
