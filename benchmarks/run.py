"""Measure everything, or some tables alone, and put the figures in their places in docs/benchmarks.md: `make bench`,
`make bench TABLES="code kernels"`."""

from __future__ import annotations

import datetime
import io
import os
import platform
import sys
from collections.abc import Callable
from importlib.metadata import version
from pathlib import Path

PROJECT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(PROJECT))

from PIL import Image  # noqa: E402
from varlen.demo.write import write_demo  # noqa: E402

from benchmarks import code, exports, feel, imports, kernels, labels, sheets, starting  # noqa: E402  the project's folder must be on the path first
from benchmarks.page import put  # noqa: E402
from benchmarks.timing import Table, best  # noqa: E402

PAGE = PROJECT / "docs" / "benchmarks.md"


def machine() -> str:
    """What the figures were taken on."""
    lines = Path("/proc/cpuinfo").read_text().splitlines()
    processor = next((line.split(":", 1)[1].strip() for line in lines if line.startswith("model name")), platform.processor())
    packages = ", ".join(f"{name} {version(name)}" for name in ("numpy", "numba", "scipy", "pillow", "shapely"))
    return f"{processor}, {os.cpu_count()} cores, Python {platform.python_version()}, {packages}"


def main() -> None:
    survey = PROJECT / ".varlen" / "bench-survey"
    if not survey.exists():
        print("rendering the survey …", flush=True)
        survey.parent.mkdir(exist_ok=True)
        write_demo(survey)
    measures: dict[str, Callable[[], list[Table]]] = {
        "exports": lambda: exports.measure(survey),
        "many": lambda: [exports.many(survey)],
        "sheets": lambda: [sheets.measure(survey)],
        "feel": lambda: [feel.measure(survey)],
        "imports": lambda: [imports.measure(survey)],
        "labels": lambda: [labels.measure(survey)],
        "code": lambda: [code.measure(survey)],
        "starting": lambda: [starting.measure(survey)],
        "kernels": kernels.measure,
    }
    chosen = sys.argv[1:] or list(measures)
    if unknown := [name for name in chosen if name not in measures]:
        sys.exit(f"there is no table {unknown[0]!r}; known are {', '.join(measures)}")
    for name in chosen:
        tables = measures[name]()
        measured = f"{datetime.date.today()}: {machine()}; one JPEG of 960×720 px decoded by Pillow in {_pace(survey):.1f} ms."
        for table in tables:
            PAGE.write_text(put(PAGE.read_text(), table, measured))


def _pace(survey: Path) -> float:
    """Milliseconds of a decode just now: the machine changes its pace."""
    data = next((survey / "images" / "train").glob("*.jpg")).read_bytes()
    return best(lambda: Image.open(io.BytesIO(data)).load())


if __name__ == "__main__":
    main()
