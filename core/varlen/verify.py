"""Checking an edition against its own record: every file, and nothing else."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import orjson

from varlen.record import RECORD, ROWS, OutputDigest, file_digest, read_record


def verify(folder: Path, progress: Callable[[], None] = lambda: None) -> list[str]:
    """Every changed, missing or added file of an edition, one line each; empty when all is well."""
    record = read_record(folder)
    expected: dict[str, str] = dict(record["files"])
    problems = []
    follows = OutputDigest(record)
    try:
        for line in (folder / ROWS).read_bytes().splitlines():
            row = orjson.loads(line)
            expected[row["file"]] = row["file_sha256"]
            follows.add_image(row["file"], row["pixel_digest"])
    except (OSError, orjson.JSONDecodeError, KeyError):
        problems.append(f"{ROWS}: missing or damaged, so images can't be checked")
    present = {path.relative_to(folder).as_posix() for path in folder.rglob("*") if path.is_file()}
    for path, digest in sorted(expected.items()):
        if path not in present:
            problems.append(f"{path}: missing")
        elif file_digest(folder / path) != digest:
            problems.append(f"{path}: changed since it was written")
        progress()
    problems += [f"{path}: not part of the edition" for path in sorted(present - set(expected) - {RECORD})]
    images = sum(split["images"] for split in record["counts"].values())
    if not problems and images != len(expected) - len(record["files"]):
        problems.append(f"{ROWS}: lists {len(expected) - len(record['files'])} images, the record says {images}")
    for path, sha256 in record["files"].items():
        if path != ROWS:
            follows.add_labels(path, sha256)
    if not problems and str(follows) != record["output_digest"]:
        problems.append(f"{RECORD}: its output digest does not follow from what it says and its rows")
    return problems
