"""The deep check of an edition: pictures held against their pixel digests, and everything made again from the source.

Pictures that are coded without loss are decoded and their pixels digested. Then, with the source dataset, the whole edition
is made again from its pipeline and seed into a folder beside it, and compared byte for byte: so a picture, a label or a
trace that was changed together with all digests is found as well. Where pictures are coded with loss the source is needed.
"""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import numpy as np
import orjson

from varlen.atomic_files import file_digest
from varlen.datasets.convert import losses_of
from varlen.datasets.dataset import Dataset
from varlen.datasets.image_files import IMAGE_TYPES, decode
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.record import RECORD, ROWS, EditionRecord, read_record
from varlen.editions.rows import Row, read_rows
from varlen.editions.source import recorded_pipeline
from varlen.editions.verify import Problem
from varlen.errors import DatasetError, EditionError, VarlenError
from varlen.kernels.pixel_digest import pixel_digest

LOSSLESS = {each.name for each in IMAGE_TYPES if not each.lossy}
#: What of a record may differ between two makings of the same edition.
_PLACES = ("dataset_path", "versions", "record_digest", "files", "dataset")


def verify_deep(folder: Path, source: Callable[[], Dataset], progress: Callable[[], None] = lambda: None) -> list[Problem]:
    """What is not as the edition's pipeline, seed and source make it. source: reads the dataset, or raises `VarlenError`."""
    record = read_record(folder)
    lossless = record["image"] in LOSSLESS and not record.get("packed")
    problems = _decoded(folder) if lossless else []
    try:
        dataset = source()
        if dataset.digest() != record["dataset_digest"]:
            raise EditionError(f"{folder}: the dataset that was found is not the one it was made from")
    except VarlenError:
        if lossless:
            return problems
        raise
    return problems + _remade(folder, record, dataset, progress)


def _decoded(folder: Path) -> list[Problem]:
    """Pictures coded without loss whose pixels have another digest than their rows say."""
    problems: list[Problem] = []
    try:
        for row in read_rows(folder):
            problem = _pixel_problem(folder, row)
            if problem:
                problems.append({"file": row["file"], "problem": problem})
    except (EditionError, KeyError, TypeError) as error:
        problems.append({"file": ROWS, "problem": f"damaged ({str(error)[:100]})"})
    return problems


def _pixel_problem(folder: Path, row: Row) -> str:
    try:
        pixels = decode((folder / row["file"]).read_bytes(), row["file"])
    except (OSError, DatasetError) as error:
        return f"can't be decoded ({str(error)[:100]})"
    if pixel_digest(pixels) == row["pixel_digest"]:
        return ""
    gray = np.ascontiguousarray(pixels[:, :, :1])
    return "" if pixel_digest(gray) == row["pixel_digest"] else "its pixels are not those of its row's pixel digest"


def _remade(folder: Path, record: EditionRecord, dataset: Dataset, progress: Callable[[], None]) -> list[Problem]:
    """What differs from the edition made anew."""
    spec = ExportSpec(**ExportSpec.fields_of(record))
    place = Path(tempfile.mkdtemp(prefix=f".{folder.name}.remade-", dir=folder.absolute().parent))
    done = 0

    def on_progress(count: int, total: int) -> None:
        nonlocal done
        for _ in range(count - done):
            progress()
        done = max(done, count)

    try:
        made = export(dataset, recorded_pipeline(folder, record), place / "again", spec, workers=os.cpu_count() or 1,
                      leave_out=bool(record.get("left_out")), accept_loss=("all",), made_by=record["varlen"], progress=on_progress)  # fmt: skip
        known = {"lost": losses_of(dataset, spec.format, every_box=True)}  # as version 0.1 told them
        return _differences(folder, record, place / "again", made, known)
    finally:
        shutil.rmtree(place, ignore_errors=True)


def _differences(folder: Path, record: EditionRecord, again: Path, made: EditionRecord, known: Mapping[str, Any]) -> list[Problem]:
    """known: what older versions made of fields that are made otherwise now."""
    problems: list[Problem] = []
    for path in sorted(path for path in again.rglob("*") if path.is_file()):
        name = path.relative_to(again).as_posix()
        if name in (RECORD, "README.md"):
            continue
        here = folder / name
        if not here.is_file():
            problems.append({"file": name, "problem": "missing, though the source makes it"})
        elif file_digest(here) != file_digest(path):
            problems.append({"file": name, "problem": _how(here, path, name)})
    for name, value in made.items():
        held = orjson.dumps(record.get(name))
        if name not in _PLACES and held != orjson.dumps(value) and held != orjson.dumps(known.get(name, value)):
            problems.append({"file": RECORD, "problem": f"its {name} is not what the source, pipeline and seed make"})
    return problems


def _how(here: Path, again: Path, name: str) -> str:
    """How a file differs from the one made anew."""
    if name == ROWS:
        pairs = zip(here.read_bytes().splitlines(), again.read_bytes().splitlines(), strict=False)
        first = next((number for number, (a, b) in enumerate(pairs) if a != b), None)
        return f"row {first} is not what the source, pipeline and seed make" if first is not None else "has other rows than are made"
    return "is not what the source, pipeline and seed make"
