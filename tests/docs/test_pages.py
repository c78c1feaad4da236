"""Every code block of the handbook and the READMEs runs, page by page; blocks that need the application run in the browser tests."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from tests.docs.blocks import PROJECT, Runner, blocks, pages


def test_the_readme_has_a_tour() -> None:
    text = "".join(block.text for block in blocks(PROJECT / "README.md") if block.language == "sh")
    assert not [word for word in ("demo", "inspect", "sheet", "forecast", "export", "verify", "recreate") if f"varlen {word}" not in text]


@pytest.mark.parametrize("page", pages(), ids=lambda page: page.relative_to(PROJECT).as_posix())
def test_every_block_of_a_page_runs(page: Path, full_survey: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("PYTHONPATH", os.fspath(tmp_path))
    runner = Runner(page, tmp_path, full_survey)
    for block in blocks(page):
        if block.place != "http":
            runner.run(block)
