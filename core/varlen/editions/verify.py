"""Checking an edition against its own record: every file, and nothing else."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from varlen.atomic_files import file_digest
from varlen.editions.record import CARD, RECORD, ROWS, SCORES, OutputDigest, read_record
from varlen.editions.rows import read_rows
from varlen.errors import EditionError


def verify(folder: Path, progress: Callable[[], None] = lambda: None) -> list[str]:
    """Every changed, missing or added file of an edition, one line each; empty when all is well."""
    record = read_record(folder)
    expected: dict[str, str] = dict(record["files"])
    problems = []
    follows = OutputDigest(record)
    images, packed = 0, bool(record.get("packed"))
    try:
        for row in read_rows(folder):
            images += 1
            # Pictures inside shards are checked with these.
            labels = row.get("label_files", {})
            if not packed:
                expected |= {row["file"]: row["file_sha256"], **labels}
            follows.add_image(row["file"], row["pixel_digest"], labels)
    except (EditionError, KeyError):
        problems.append(f"{ROWS}: missing or damaged, so images can't be checked")
    present = {path.relative_to(folder).as_posix() for path in folder.rglob("*") if path.is_file()}
    for path, digest in sorted(expected.items()):
        if path not in present:
            problems.append(f"{path}: missing")
        elif file_digest(folder / path) != digest:
            problems.append(f"{path}: changed since it was written")
        progress()
    problems += [f"{path}: not part of the edition" for path in sorted(present - set(expected) - {RECORD, SCORES})]
    counted = sum(split["images"] for split in record["counts"].values())
    if not problems and images != counted:
        problems.append(f"{ROWS}: lists {images} images, the record says {counted}")
    for path, sha256 in record["files"].items():
        if path not in (ROWS, CARD):
            follows.add_labels(path, sha256)
    if not problems and str(follows) != record["output_digest"]:
        problems.append(f"{RECORD}: its output digest does not follow from what it says and its rows")
    return problems
