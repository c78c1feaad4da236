"""Measure everything in one run and write docs/benchmarks.md: `make bench`; or print some tables alone: `make bench TABLES="code kernels"`."""

from __future__ import annotations

import datetime
import os
import platform
import sys
from collections.abc import Callable
from importlib.metadata import version
from pathlib import Path

PROJECT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(PROJECT))

from varlen.demo.write import write_demo  # noqa: E402

from benchmarks import code, exports, feel, imports, kernels, labels, sheets  # noqa: E402  the project's folder must be on the path first
from benchmarks.timing import Table  # noqa: E402

HEAD = """# Benchmarks

Made by `make bench`; every figure of one run, side by side, on one machine. Ratios travel to other machines,
milliseconds don't. Targets are those of the project's issues; a figure that misses its target says so.

"""


def processor() -> str:
    lines = Path("/proc/cpuinfo").read_text().splitlines()
    return next((line.split(":", 1)[1].strip() for line in lines if line.startswith("model name")), platform.processor())


def main() -> None:
    survey = PROJECT / ".varlen" / "bench-survey"
    if not survey.exists():
        print("rendering the survey …", flush=True)
        survey.parent.mkdir(exist_ok=True)
        write_demo(survey)
    packages = ", ".join(f"{name} {version(name)}" for name in ("numpy", "numba", "scipy", "pillow", "shapely"))
    machine = f"{processor()}, {os.cpu_count()} cores; Python {platform.python_version()}, {packages}; {datetime.date.today()}.\n\n"
    measures: dict[str, Callable[[], list[Table]]] = {
        "exports": lambda: exports.measure(survey),
        "sheets": lambda: [sheets.measure(survey)],
        "feel": lambda: [feel.measure(survey)],
        "imports": lambda: [imports.measure(survey)],
        "labels": lambda: [labels.measure(survey)],
        "code": lambda: [code.measure(survey)],
        "kernels": kernels.measure,
    }
    chosen = sys.argv[1:] or list(measures)
    if unknown := [name for name in chosen if name not in measures]:
        sys.exit(f"there is no table {unknown[0]!r}; known are {', '.join(measures)}")
    tables = [table for name in chosen for table in measures[name]()]
    if sys.argv[1:]:
        print("\n".join(table.markdown() for table in tables))
        return
    text = HEAD + machine + "\n".join(table.markdown() for table in tables)
    (PROJECT / "docs" / "benchmarks.md").write_text(text)
    print(text)


if __name__ == "__main__":
    main()
