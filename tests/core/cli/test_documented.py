"""What README and docs say can be typed: every example is understood, and the README's tour works from start to end."""

from __future__ import annotations

import re
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from typer.main import get_command
from varlen.cli.main import app
from varlen.editions.verify import verify

from tests.conftest import PROJECT

PAGES = (PROJECT / "README.md", *sorted((PROJECT / "docs").glob("*.md")))


def examples(page: Path) -> list[list[str]]:
    """The `varlen …` lines in a page's blocks of code, as words, without their comments."""
    blocks = re.findall(r"^```\w*\n(.*?)^```", page.read_text(), re.M | re.S)
    return [shlex.split(line, comments=True) for block in blocks for line in block.splitlines() if line.startswith("varlen ")]


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_every_example_is_understood(page: Path) -> None:
    """Each names a command there is, with options it has and all that it needs."""
    root = get_command(app)
    with root.make_context("varlen", [], resilient_parsing=True) as context:
        for _, *words in examples(page):
            command, rest = root, words
            while hasattr(command, "commands"):
                assert rest[0] in command.commands, words
                command, rest = command.commands[rest[0]], rest[1:]
            command.make_context(" ".join(words[: len(words) - len(rest)]), list(rest), parent=context)


def test_the_readme_has_a_tour() -> None:
    assert {words[1] for words in examples(PROJECT / "README.md")} >= {"demo", "inspect", "sheet", "forecast", "export", "verify", "recreate"}


@pytest.mark.slow
def test_the_tour_of_the_readme_works_as_it_stands(survey_folder: Path, tmp_path: Path) -> None:
    """In an empty folder, one command after the other, on the demo in small."""
    shutil.copytree(survey_folder, tmp_path / "moths")
    for _, *words in examples(PROJECT / "README.md"):
        if words[0] == "demo":
            continue
        done = subprocess.run([sys.executable, "-m", "varlen", *words], cwd=tmp_path, capture_output=True, text=True, timeout=300)
        assert done.returncode == 0, (words, done.stderr)
        if words[0] == "recreate":
            assert done.stdout.strip().endswith(": identical")
    assert (tmp_path / "sheet.png").stat().st_size > 10_000
    assert verify(tmp_path / "edition") == []
