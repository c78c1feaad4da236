"""The code blocks of a page, and how they are run: one folder and one Python namespace a page, from top to bottom.

    ```python   run in the page's namespace
    ```sh       run by bash, stopping at the first failure; `varlen demo` copies what is rendered once for all pages
    ```json     must be JSON; a pipeline must be sound
    ```text     only to be read
    ```{…}      a directive of the handbook, no code

A word after the language says where a block runs: `http` with the application beside it, `docs` in the project's folder.
"""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NamedTuple

from varlen.demo.variants import write_variant
from varlen.pipeline.document import MOST_BYTES, from_json

from tests.conftest import kept_survey

PROJECT = Path(__file__).resolve().parents[2]
FENCE = re.compile(r"^```([^\n`]*)\n(.*?)^```\s*$", re.MULTILINE | re.DOTALL)
#: Commands that the application's own tests run.
MAKE = re.compile(r"^make ([a-z-]+)")


class Block(NamedTuple):
    """A block of code: its language, where it runs, its text, and the line it begins in."""

    language: str
    place: str
    text: str
    line: int


def pages() -> list[Path]:
    """Every page with code in it."""
    docs = PROJECT / "docs"
    found = [*docs.rglob("*.md"), PROJECT / "README.md", PROJECT / "core" / "README.md", PROJECT / "CONTRIBUTING.md"]
    return sorted(path for path in found if not {"_site", "_work"} & set(path.relative_to(PROJECT).parts) and list(blocks(path)))


def blocks(path: Path) -> Iterator[Block]:
    """The blocks of a page, in order."""
    text = path.read_text("utf-8")
    for match in FENCE.finditer(text):
        words = match[1].split()
        if words and words[0].startswith("{"):
            continue
        yield Block(words[0] if words else "", " ".join(words[1:]), match[2], text[: match.start()].count("\n") + 1)


class Runner:
    """Runs blocks of one page in a folder; `demo` is where the demo survey lies."""

    def __init__(self, page: Path, folder: Path, demo: Path, replaced: dict[str, str] | None = None) -> None:
        self.page, self.folder, self.demo, self.replaced = page, folder, demo, replaced or {}
        self.names: dict[str, Any] = {"__name__": "__main__"}

    def run(self, block: Block) -> None:
        """Run a block; an error names page and line."""
        text = block.text
        for old, new in self.replaced.items():
            text = text.replace(old, new)
        where = f"{self.page.relative_to(PROJECT)}:{block.line}"
        match block.language:
            case "python":
                # Line numbers as on the page; the source is at hand for steps made from functions.
                file = self.folder / f"{self.page.stem}_{block.line}.py"
                file.write_text(text)
                exec(compile(text, str(file), "exec"), self.names)
            case "sh":
                self._shell(text, where, PROJECT if block.place == "docs" else self.folder)
            case "json":
                data = json.loads(text)
                if "step" in data:
                    data = {"varlen_pipeline": 1, "steps": [data]}
                assert len(text) < MOST_BYTES
                if "varlen_pipeline" in data:
                    from_json(data, where)
            case "text":
                pass
            case other:
                raise AssertionError(f"{where}: a block of {other or 'no language'}; name python, sh, json or text")

    def _shell(self, text: str, where: str, folder: Path) -> None:
        lines = []
        for line in text.splitlines():
            if make := MAKE.match(line):
                assert f"\n{make[1]}:" in (PROJECT / "Makefile").read_text(), f"{where}: there is no {line}"
            elif demo := re.match(r"varlen demo (\S+)(?: --format (\S+)| --images (\d+))?$", line):
                self._demo(demo[1], demo[2] or "coco", int(demo[3] or 0))
            else:
                lines.append(line)
        path = f"{Path(sys.executable).parent}:{os.environ['PATH']}"
        made = subprocess.run(
            ["bash", "-euc", "\n".join(lines)], cwd=folder, env={**os.environ, "PATH": path}, capture_output=True, text=True, check=False
        )
        assert made.returncode == 0, f"{where}: status {made.returncode}\n{made.stdout[-2000:]}\n{made.stderr[-2000:]}"

    def _demo(self, name: str, form: str, images: int) -> None:
        target = self.folder / name
        if target.exists():
            return
        if images:
            kept_survey(target, images)
        elif form == "coco":
            shutil.copytree(self.demo, target)
        else:
            write_variant(self.demo, target, form)
