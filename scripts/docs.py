"""Build the handbook, a searchable static site, into docs/_site. `make docs`; the application does so in the background.

    python scripts/docs.py [--if-stale]

Needs no network. Written anew before it is built: the page of every public name (docs/api.md, from the docstrings' names) and the
notebook's page, from what the notebook holds.
"""

from __future__ import annotations

import argparse
import base64
import fcntl
import hashlib
import json
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

PROJECT = Path(__file__).resolve().parent.parent
DOCS = PROJECT / "docs"
SITE = DOCS / "_site"
STAMP = SITE / ".stamp"
LOCK = PROJECT / ".varlen" / "handbook.lock"

#: The public names of a page in the order in which a reader wants them.
PARTS = {
    "Arrays in, arrays out": ["Pipeline", "Labels", "Rendered", "RenderedClip", "Loss", "Skeleton", "Part", "LabelRules"],
    "Looking": ["sheet", "strip", "Sheet"],
    "Datasets": ["read_dataset", "Dataset", "SourceSample"],
    "Training": ["stream", "Samples", "batch", "Sample", "Batch"],
    "Editions": ["export", "Edition", "verify", "Verdict", "recreate", "Recreated", "forecast", "compare"],
    "Evidence": ["match", "probe"],
    "A server elsewhere": ["remote", "Remote"],
    "Steps of your own": ["step", "Range", "Number", "Step"],
    "Errors": [
        "VarlenError",
        "PipelineError",
        "ArrayError",
        "DatasetError",
        "RenderError",
        "EditionError",
        "EvidenceError",
        "RemoteError",
        "StepFileError",
    ],
}


def api_page() -> str:
    """The page of the public names: each with its signature and docstring, taken from the code when the site is built."""
    import varlen
    from varlen.steps import BUILT_IN

    lines = ["# Python", "", "`import varlen as v`. Written from the code: shapes are (height, width, …), coordinates px, levels 0-255.", ""]
    for title, names in PARTS.items():
        lines += [f"## {title}", ""]
        for name in names:
            kind = "autofunction" if not isinstance(getattr(varlen, name), type) else "autoexception" if name.endswith("Error") else "autoclass"
            options = ["   :members:"] if kind == "autoclass" and name not in ("Step", "Part") else []
            lines += ["```{eval-rst}", f".. {kind}:: varlen.{name}", *options, "```", ""]
    lines += [
        "## Steps",
        "",
        "Each is a class with its parameters by name; `Junction` takes branches, `varlen.Branch`.",
        "",
        "| class | what it does |",
        "|---|---|",
    ]
    lines += [f"| [`{cls.__name__}`](steps/{cls.name()}.md) | {cls.meaning()} |" for cls in BUILT_IN]
    return "\n".join([*lines, "", "`varlen.Branch(weight=1, steps=[…])` is one way through a `Junction`.", ""])


def notebook_page(notebook: dict[str, Any], folder: Path) -> str:
    """A notebook as Markdown: its text, its code, and what that showed; pictures go to `folder`."""
    lines: list[str] = []
    for number, cell in enumerate(notebook["cells"]):
        source = "".join(cell["source"])
        if cell["cell_type"] == "markdown":
            lines += [source, ""]
            continue
        lines += ["```python", source, "```", ""]
        for place, output in enumerate(cell.get("outputs", [])):
            data = output.get("data", {})
            if "image/png" in data:
                name = f"notebook-{number}-{place}.png"
                (folder / name).write_bytes(base64.b64decode("".join(data["image/png"])))
                lines += [f"![what the cell shows]({name})", ""]
            elif text := "".join(output.get("text", data.get("text/plain", ""))):
                lines += ["```text", text.rstrip(), "```", ""]
    return "\n".join(lines)


def digest() -> str:
    """Of everything that the site is made from."""
    sources = [path for path in DOCS.rglob("*") if path.is_file() and not path.relative_to(DOCS).parts[0].startswith("_site")]
    sources += (PROJECT / "core" / "varlen").rglob("*.py")
    whole = hashlib.sha256()
    for path in sorted([*sources, Path(__file__)]):
        whole.update(str(path.relative_to(PROJECT)).encode() + hashlib.sha256(path.read_bytes()).digest())
    return whole.hexdigest()


def prepare(work: Path) -> None:
    """A copy of the pages with those that are made: what Sphinx reads."""
    shutil.copytree(DOCS, work, ignore=shutil.ignore_patterns("_site*"), dirs_exist_ok=True)
    (work / "api.md").write_text(api_page())
    (work / "notebook.md").write_text(notebook_page(json.loads((DOCS / "notebook.ipynb").read_text()), work))
    (work / "steps.md").write_text((DOCS / "steps.md").read_text() + _toctree(sorted(f"steps/{path.stem}" for path in (DOCS / "steps").glob("*.md"))))


def _toctree(pages: list[str]) -> str:
    return "\n".join(["", "```{toctree}", ":hidden:", "", *pages, "```", ""])


def build(site: Path = SITE) -> None:
    """Make the site anew, and put it in its place when it is whole. Raises `CalledProcessError` for a page with a fault."""
    with tempfile.TemporaryDirectory(prefix="varlen-handbook-") as folder:
        # Beside the old one, so that it takes its place at once.
        work, new = Path(folder) / "pages", site.with_name(site.name + ".new")
        shutil.rmtree(new, ignore_errors=True)
        prepare(work)
        subprocess.run([sys.executable, "-m", "sphinx", "-q", "-W", "--keep-going", "-b", "html", str(work), str(new)], check=True)
        (new / STAMP.name).write_text(digest())
        old = site.with_name(site.name + ".old")
        shutil.rmtree(old, ignore_errors=True)
        if site.exists():
            site.rename(old)
        new.rename(site)
        shutil.rmtree(old, ignore_errors=True)


def main() -> None:
    """Build, or say that nothing has changed."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--if-stale", action="store_true", help="only where something has changed since")
    parser.add_argument("--to", type=Path, metavar="DIR", help="there instead of docs/_site")
    options = parser.parse_args()
    if options.to:
        return build(options.to)
    LOCK.parent.mkdir(exist_ok=True)
    with LOCK.open("w") as lock:  # a test run and a start may want it at the same time
        fcntl.flock(lock, fcntl.LOCK_EX)
        if options.if_stale and STAMP.exists() and STAMP.read_text() == digest():
            return
        build()
    print(f"{SITE / 'index.html'}")


if __name__ == "__main__":
    main()
