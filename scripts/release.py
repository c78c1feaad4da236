"""Build what is published and check it: sdist, wheel and handbook of this version. `make release`; they lie in `dist/`.

The wheel is the package of `core/`. It is checked for its metadata and contents, and installed alone into an empty environment, where five lines
of code run. Nothing is published from here.
"""

from __future__ import annotations

import email
import shutil
import subprocess
import sys
import tarfile
import tempfile
import zipfile
from pathlib import Path

from varlen._version import __version__

PROJECT = Path(__file__).resolve().parent.parent
DIST = PROJECT / "dist"
FIVE_LINES = """
import numpy as np
import varlen as v
pipeline = v.Pipeline([v.Flip(probability=1)], seed=20)
out = pipeline.render(np.zeros((48, 64, 3), np.uint8), v.Labels(boxes=[[4, 4, 20, 30]], classes=["moth"]), key="a")
assert out.boxes.tolist() == [[44.0, 4.0, 60.0, 30.0]], out.boxes
"""


def run(*command: str | Path, cwd: Path = PROJECT) -> None:
    done = subprocess.run([str(part) for part in command], cwd=cwd, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    if done.returncode:
        sys.exit(f"{command[0]} failed:\n{done.stdout[-3000:]}")


def need(true: bool, what: str) -> None:
    if not true:
        sys.exit(f"not fit to be released: {what}")


def build(folder: Path) -> tuple[Path, Path]:
    """The sdist and the wheel that is built from it, so that the sdist is known to be whole."""
    source = shutil.copytree(PROJECT / "core", folder / "core", ignore=shutil.ignore_patterns("__pycache__", "build", "*.egg-info"))
    shutil.copy(PROJECT / "LICENSE", source)
    run(sys.executable, "-c", "from setuptools.build_meta import build_sdist; build_sdist('..')", cwd=source)
    (sdist,) = folder.glob("*.tar.gz")
    with tarfile.open(sdist) as archive:
        archive.extractall(folder / "unpacked", filter="data")
    (unpacked,) = (folder / "unpacked").iterdir()
    run(sys.executable, "-m", "pip", "wheel", "-q", "--no-deps", "--no-build-isolation", "--disable-pip-version-check", "-w", folder, unpacked)
    (wheel,) = folder.glob("*.whl")
    return sdist, wheel


def check(wheel: Path) -> None:
    """Version and licence, and all modules but nothing else."""
    with zipfile.ZipFile(wheel) as archive:
        names = archive.namelist()
        metadata = email.message_from_bytes(archive.read(next(name for name in names if name.endswith("METADATA"))))
    need(metadata["Version"] == __version__, f"the wheel says version {metadata['Version']}")
    need(bool(metadata["License-Expression"] or metadata["License"]), "the wheel names no licence")
    need(all(name.startswith(("varlen/", f"varlen-{__version__}.dist-info/")) for name in names), "files beside the package")
    inside = {path.relative_to(PROJECT / "core").as_posix() for path in (PROJECT / "core" / "varlen").rglob("*.py")}
    need(inside <= set(names), f"missing in the wheel: {sorted(inside - set(names))[:3]}")
    need("varlen/py.typed" in names and "varlen/steps/catalogue.json" in names, "data files are missing")


def check_installed(wheel: Path, folder: Path) -> None:
    run(Path(sys.executable).with_name("uv"), "venv", "-q", "--python", sys.executable, folder / "empty")
    python = folder / "empty" / "bin" / "python"
    run(Path(sys.executable).with_name("uv"), "pip", "install", "-q", "--python", python, wheel)
    run(python, "-c", FIVE_LINES, cwd=folder)
    run(folder / "empty" / "bin" / "varlen", "steps", cwd=folder)


def main() -> None:
    need(f"## {__version__} (" in (PROJECT / "CHANGELOG.md").read_text(), f"CHANGELOG.md has no heading for {__version__}")
    DIST.mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        sdist, wheel = build(folder)
        check(wheel)
        check_installed(wheel, folder)
        run(sys.executable, PROJECT / "scripts" / "docs.py", "--to", folder / "handbook")
        with tarfile.open(folder / f"varlen-{__version__}-handbook.tar.gz", "w:gz") as archive:
            archive.add(folder / "handbook", f"varlen-{__version__}-handbook")
        for made in (sdist, wheel, folder / f"varlen-{__version__}-handbook.tar.gz"):
            shutil.move(made, DIST / made.name)
            print(DIST / made.name)


if __name__ == "__main__":
    main()
