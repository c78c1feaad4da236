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
from typing import Any, NamedTuple, cast

import numpy as np
import orjson

from varlen._version import __version__
from varlen.atomic_files import file_digest
from varlen.datasets.convert import losses_of
from varlen.datasets.dataset import Dataset
from varlen.datasets.image_files import IMAGE_TYPES, decode
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.readme import edition_readme
from varlen.editions.record import CARD, RECORD, ROWS, EditionRecord, read_record
from varlen.editions.rows import Row, read_rows
from varlen.editions.source import recorded_pipeline
from varlen.editions.verify import Problem
from varlen.errors import DatasetError, EditionError, VarlenError
from varlen.kernels.pixel_digest import pixel_digest

LOSSLESS = {each.name for each in IMAGE_TYPES if not each.lossy}
#: What of a record may differ between two makings of the same edition: where it was made, from a source of which name, by whom and with what.
_CIRCUMSTANCES = ("dataset", "dataset_path", "known_as", "versions")
#: What follows from the files that are compared.
_FOLLOWS = ("files", "record_digest")
_KNOWN = EditionRecord.__required_keys__ | EditionRecord.__optional_keys__


class DeepCheck(NamedTuple):
    """What a deep check found. not_checked: what of the record can't be made anew, by name; the digest that the export printed covers it."""

    problems: list[Problem]
    not_checked: list[str]


def verify_deep(folder: Path, source: Callable[[], Dataset], progress: Callable[[], None] = lambda: None) -> DeepCheck:
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
            return DeepCheck(problems, ["everything but pixels: the source was not found"])
        raise
    remade = _remade(folder, record, dataset, progress)
    return DeepCheck(problems + remade.problems, remade.not_checked)


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


def _remade(folder: Path, record: EditionRecord, dataset: Dataset, progress: Callable[[], None]) -> DeepCheck:
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
        not_checked = [name for name in _CIRCUMSTANCES if name in record and record[name] != made.get(name)]  # type: ignore[literal-required]
        not_checked.append("the pipeline's name")
        card = place / "again" / CARD
        if record["varlen"] != __version__:
            not_checked += ["varlen", CARD]
            card.unlink()  # other versions say it in other words
        else:
            card.write_bytes(edition_readme(cast(EditionRecord, {**made, "dataset": record["dataset"]}), dataset).encode())
        older = {"lost": losses_of(dataset, spec.format, every_box=True)}  # as version 0.1 told them
        return DeepCheck([*_file_differences(folder, record, place / "again", made), *_record_differences(record, made, older)], not_checked)
    finally:
        shutil.rmtree(place, ignore_errors=True)


def _file_differences(folder: Path, record: EditionRecord, again: Path, made: EditionRecord) -> list[Problem]:
    problems: list[Problem] = []
    for path in sorted(path for path in again.rglob("*") if path.is_file()):
        name = path.relative_to(again).as_posix()
        if name == RECORD:
            continue
        here = folder / name
        if not here.is_file():
            problems.append({"file": name, "problem": "missing, though the source makes it"})
        elif file_digest(here) != file_digest(path):
            problems.append({"file": name, "problem": _how(here, path, name)})
    return problems + [{"file": name, "problem": "is not made from the source"} for name in sorted(set(record["files"]) - set(made["files"]))]


def _record_differences(record: EditionRecord, made: EditionRecord, older: Mapping[str, Any]) -> list[Problem]:
    """Every key of the record against the one made anew. older: what older versions made of keys that are made otherwise now."""
    wrong = []
    for name in dict.fromkeys([*made, *record]):
        held, value = record.get(name), made.get(name)
        if name in (*_CIRCUMSTANCES, *_FOLLOWS):
            continue
        if name not in _KNOWN:
            wrong.append(f"its {name} is nothing that a record says")
        elif orjson.dumps(held) not in (orjson.dumps(value), orjson.dumps(older.get(name, value))):
            wrong.append(f"its {name} is not what the source, pipeline and seed make")
    return [{"file": RECORD, "problem": problem} for problem in wrong]


def _how(here: Path, again: Path, name: str) -> str:
    """How a file differs from the one made anew."""
    if name == ROWS:
        pairs = zip(here.read_bytes().splitlines(), again.read_bytes().splitlines(), strict=False)
        first = next((number for number, (a, b) in enumerate(pairs) if a != b), None)
        return f"row {first} is not what the source, pipeline and seed make" if first is not None else "has other rows than are made"
    return "is not what the source, pipeline and seed make"
