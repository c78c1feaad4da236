"""Measure everything in one run and write docs/benchmarks.md. `make bench`."""

from __future__ import annotations

import datetime
import os
import platform
import sys
from importlib.metadata import version
from pathlib import Path

PROJECT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(PROJECT))

from varlen.demo.write import write_demo  # noqa: E402

from benchmarks import exports, feel, imports, kernels, labels, sheets  # noqa: E402  the project's folder must be on the path first

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
    tables = [
        *exports.measure(survey),
        sheets.measure(survey),
        feel.measure(survey),
        imports.measure(survey),
        labels.measure(survey),
        *kernels.measure(),
    ]
    text = HEAD + machine + "\n".join(table.markdown() for table in tables)
    (PROJECT / "docs" / "benchmarks.md").write_text(text)
    print(text)


if __name__ == "__main__":
    main()
