"""Whatever is changed in an edition is found, and the right file named: bytes, counts, traces, digests, and what does not belong there."""

from __future__ import annotations

import json
import os
import random
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import orjson
import pytest
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import read_dataset
from varlen.datasets.image_files import encode
from varlen.editions.deep_verify import verify_deep
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.record import OutputDigest, read_record, record_digest
from varlen.editions.verify import verify
from varlen.pipeline.document import from_json

from tests.conftest import make_pipeline
from tests.core.datasets.trees import write_tree
from tests.core.golden.dataset import pattern

STEPS = [{"id": "mirror", "step": "flip", "probability": 0.5}, {"id": "tilt", "step": "rotate", "degrees": [-20, 20]}]


def source_in(folder: Path) -> Dataset:
    """Six pictures, two boxes on each, as YOLO text."""
    files: dict[str, Any] = {}
    for n in range(6):
        files[f"images/{'train' if n < 4 else 'val'}/p{n}.png"] = (64, 48)
        files[f"labels/{'train' if n < 4 else 'val'}/p{n}.txt"] = "0 0.4 0.4 0.3 0.3\n1 0.7 0.6 0.2 0.3\n"
    return read_dataset(write_tree(folder, {**files, "data.yaml": "names: [moth, lamp]"}))


@pytest.fixture(scope="module", params=["png", "jpeg"])
def made(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> tuple[Dataset, Path, str]:
    folder = tmp_path_factory.mktemp("made")
    dataset = source_in(folder / "source")
    record = export(dataset, make_pipeline(*STEPS, seed=3), folder / "edition", ExportSpec(variants=2, image=request.param))
    assert verify(folder / "edition") == []
    return dataset, folder / "edition", str(record["record_digest"])


def leaves(value: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[tuple[Any, ...], Any]]:
    """Every number, text and empty container of a JSON value, with the way to it."""
    if isinstance(value, dict) and value:
        for name, each in value.items():
            yield from leaves(each, (*path, name))
    elif isinstance(value, list) and value:
        for place, each in enumerate(value):
            yield from leaves(each, (*path, place))
    else:
        yield path, value


def changed(value: Any) -> Any:
    """Something else of the same kind."""
    if isinstance(value, bool):
        return not value
    if isinstance(value, (int, float)):
        return value + 1
    if isinstance(value, str):
        return value[:-1] + ("0" if value[-1:] != "0" else "1")
    return {"more": 1} if isinstance(value, dict) else [1] if isinstance(value, list) else 0


def put(document: Any, path: tuple[Any, ...], value: Any) -> None:
    for name in path[:-1]:
        document = document[name]
    document[path[-1]] = value


def files_of(problems: list[Any]) -> set[str]:
    return {problem["file"] for problem in problems}


def test_every_value_of_the_record(made: tuple[Dataset, Path, str]) -> None:
    """Each of them, one at a time; more than 150 changes."""
    _, edition, _ = made
    text = (edition / "edition.json").read_bytes()
    found = 0
    try:
        for path, value in leaves(orjson.loads(text)):
            document = orjson.loads(text)
            put(document, path, changed(value))
            if path == ("varlen_edition",):
                continue  # then it is no edition at all
            (edition / "edition.json").write_bytes(orjson.dumps(document))
            assert "edition.json" in files_of(verify(edition)), path
            found += 1
    finally:
        (edition / "edition.json").write_bytes(text)
    assert found > 150
    assert verify(edition) == []


def test_a_record_that_was_signed_again_still_has_to_add_up(made: tuple[Dataset, Path, str]) -> None:
    """Whoever changes counts, seed or pipeline and makes the record's digest anew is found by what does not follow."""
    _, edition, digest = made
    text = (edition / "edition.json").read_bytes()
    record = orjson.loads(text)
    ways: list[tuple[tuple[Any, ...], Any]] = [
        (("seed",), 4), (("counts", "train", "images"), 13), (("counts", "train", "objects"), 3), (("counts", "train", "classes", "moth"), 1),
        (("pipeline", "steps", 1, "degrees"), [-20.0, 21.0]), (("pipeline", "seed"), 9), (("pipeline_digest",), "sha256:" + "0" * 64),
        (("variants",), 3), (("originals",), False), (("output_digest",), "sha256:" + "1" * 64), (("quality",), 17),
        (("statistics", "objects", "dropped"), 5), (("statistics", "blank_share"), 0.9), (("dataset_digest",), "sha256:" + "2" * 64),
        (("counts", "night"), {"images": 1, "objects": 0, "classes": {}}), (("pipeline", "name"), "Other"), (("pipeline", "steps"), []),
    ]  # fmt: skip
    try:
        for path, value in ways:
            document = orjson.loads(text)
            put(document, path, value)
            document["record_digest"] = record_digest(document)
            (edition / "edition.json").write_bytes(orjson.dumps(document))
            assert "edition.json" in files_of(verify(edition)), path
        # What nothing else says can be changed with its digest; the digest that the export printed tells.
        document = {**record, "dataset": "another", "record_digest": ""}
        document["record_digest"] = record_digest(document)
        (edition / "edition.json").write_bytes(orjson.dumps(document))
        assert verify(edition) == []
        assert files_of(verify(edition, record=digest)) == {"edition.json"}
    finally:
        (edition / "edition.json").write_bytes(text)
    assert verify(edition, record=digest) == []


def test_every_value_of_a_row(made: tuple[Dataset, Path, str]) -> None:
    """More than 100 changes of rows, traces among them: the list of rows is named."""
    _, edition, _ = made
    text = (edition / "rows.jsonl").read_bytes()
    lines, found = text.splitlines(), 0
    try:
        for number in (0, 1, 2, len(lines) - 1):
            for path, value in leaves(orjson.loads(lines[number])):
                document = orjson.loads(lines[number])
                put(document, path, changed(value))
                (edition / "rows.jsonl").write_bytes(b"\n".join([*lines[:number], orjson.dumps(document), *lines[number + 1 :]]) + b"\n")
                assert "rows.jsonl" in files_of(verify(edition)), path
                found += 1
        for other in (lines[1:], lines[::-1], [*lines, lines[0]], [b"[]"], [b"{"], [b"\xff"], []):
            (edition / "rows.jsonl").write_bytes(b"\n".join(other) + b"\n")
            assert "rows.jsonl" in files_of(verify(edition))
            found += 1
    finally:
        (edition / "rows.jsonl").write_bytes(text)
    assert found > 100


def test_bytes_of_every_file(made: tuple[Dataset, Path, str]) -> None:
    _, edition, _ = made
    draw = random.Random(7)
    for path in sorted(path for path in edition.rglob("*") if path.is_file()):
        data = path.read_bytes()
        for _ in range(2):
            place = draw.randrange(len(data)) if data else 0
            path.write_bytes(data[:place] + bytes([data[place] ^ (1 << draw.randrange(8))]) + data[place + 1 :] if data else b"x")
            try:
                named = files_of(verify(edition))
            except Exception as error:
                named = {"edition.json"} if "edition.json" in str(error) else set()
            finally:
                path.write_bytes(data)
            assert path.relative_to(edition).as_posix() in named, path
    assert verify(edition) == []


STRANGE: dict[str, Callable[[Path], object]] = {
    "a file": lambda place: place.write_text("x"),
    "a hidden file": lambda place: place.with_name(".hidden").write_text("x"),
    "a folder": lambda place: place.mkdir(),
    "a link to a file": lambda place: place.symlink_to("rows.jsonl"),
    "a link to nothing": lambda place: place.symlink_to("nowhere"),
    "a link to a folder": lambda place: place.symlink_to("images"),
    "a pipe": lambda place: os.mkfifo(place),
}


@pytest.mark.parametrize("what", STRANGE)
@pytest.mark.parametrize("where", ["", "images/train/"])
def test_what_does_not_belong(made: tuple[Dataset, Path, str], what: str, where: str) -> None:
    _, edition, _ = made
    place = edition / f"{where}strange"
    STRANGE[what](place)
    place = place if place.is_symlink() or place.exists() else place.with_name(".hidden")
    try:
        assert files_of(verify(edition)) == {place.relative_to(edition).as_posix()}
    finally:
        place.rmdir() if place.is_dir() and not place.is_symlink() else place.unlink()
    assert verify(edition) == []


def test_a_file_replaced_by_a_link_to_its_copy(made: tuple[Dataset, Path, str], tmp_path: Path) -> None:
    _, edition, _ = made
    victim = edition / "data.yaml"
    shutil.move(victim, tmp_path / "copy")
    victim.symlink_to(tmp_path / "copy")
    try:
        assert files_of(verify(edition)) == {"data.yaml"}
    finally:
        victim.unlink()
        shutil.move(tmp_path / "copy", victim)


def resign(edition: Path) -> None:
    """Make all digests of an edition fit what lies there, as a patient forger would."""
    import hashlib

    record: Any = read_record(edition)
    rows = [orjson.loads(line) for line in (edition / "rows.jsonl").read_bytes().splitlines()]
    for row in rows:
        row["file_sha256"] = hashlib.sha256((edition / row["file"]).read_bytes()).hexdigest()
        row["label_files"] = {path: hashlib.sha256((edition / path).read_bytes()).hexdigest() for path in row["label_files"]}
    (edition / "rows.jsonl").write_bytes(b"".join(orjson.dumps(row, option=orjson.OPT_SORT_KEYS) + b"\n" for row in rows))
    record["files"] = {path: hashlib.sha256((edition / path).read_bytes()).hexdigest() for path in record["files"]}
    digest = OutputDigest(record)
    for row in rows:
        digest.add_image(row["file"], row["pixel_digest"], row["label_files"])
    for path, sha256 in record["files"].items():
        if path not in ("rows.jsonl", "README.md"):
            digest.add_labels(path, sha256)
    record["output_digest"] = str(digest)
    record["record_digest"] = record_digest(record)
    (edition / "edition.json").write_text(json.dumps(record, indent=1))


def test_what_was_changed_with_all_its_digests(made: tuple[Dataset, Path, str], tmp_path: Path) -> None:
    """Only the deep check, or the digest printed by the export, finds a forger who rewrites everything."""
    dataset, edition, digest = made
    picture, label = "images/train/p0_v1", "labels/train/p1_v2.txt"
    for name in (picture, label):
        forged = tmp_path / "forged"
        shutil.rmtree(forged, ignore_errors=True)
        shutil.copytree(edition, forged)
        if name == label:
            (forged / label).write_text("0 0.5 0.5 0.9 0.9\n")
        else:
            name = next(path.relative_to(forged).as_posix() for path in forged.glob(f"{picture}.*"))
            kind = "png" if name.endswith("png") else "jpeg"
            (forged / name).write_bytes(encode(pattern(64, 48, 99), kind, 90))  # type: ignore[arg-type]
        resign(forged)
        assert verify(forged) == []
        assert files_of(verify(forged, record=digest)) == {"edition.json"}
        assert name in files_of(verify_deep(forged, lambda: dataset).problems)
    assert verify_deep(edition, lambda: dataset).problems == []
    assert sorted(path.name for path in edition.parent.iterdir()) == ["edition", "source"]


@pytest.mark.parametrize("name", ["README.md", "notes.txt", "left_out", "reduced", "said", "dataset", "known_as", "versions", "pipeline"])
def test_what_is_said_of_an_edition_is_made_anew_too(made: tuple[Dataset, Path, str], tmp_path: Path, name: str) -> None:
    """Each rewritten with every digest: found, or named among what was not checked."""
    dataset, edition, _ = made
    forged = tmp_path / "forged"
    shutil.copytree(edition, forged)
    record: Any = read_record(forged)
    rewritten: dict[str, Any] = {"left_out": [{"source": "p0.png", "variant": 9, "reason": "dark"}], "reduced": ["3 masks"], "said": "so",
                                 "dataset": "Another", "known_as": {"made_by": "luna"}, "versions": {"varlen": "9"}}  # fmt: skip
    if "." in name:
        (forged / name).write_text("Free of any rights.\n")
        record["files"][name] = ""
    elif name == "pipeline":
        record["pipeline"]["name"] = "Another"
        record["pipeline_digest"] = from_json(record["pipeline"]).digest
    else:
        record[name] = rewritten[name]
    (forged / "edition.json").write_text(json.dumps(record))
    resign(forged)
    assert verify(forged) == []
    found = verify_deep(forged, lambda: dataset)
    in_record = name in ("left_out", "reduced", "said")
    if "." in name or in_record:
        assert ("edition.json" if in_record else name) in files_of(found.problems)
    else:
        assert {"pipeline": "the pipeline's name"}.get(name, name) in found.not_checked


def test_an_edition_from_before_there_were_record_digests(made: tuple[Dataset, Path, str], tmp_path: Path) -> None:
    _, edition, _ = made
    shutil.copytree(edition, tmp_path / "old")
    record = orjson.loads((edition / "edition.json").read_bytes())
    del record["record_digest"]
    (tmp_path / "old" / "edition.json").write_bytes(orjson.dumps(record))
    assert verify(tmp_path / "old") == []
    record["output_digest"] = "sha256:" + "0" * 64
    (tmp_path / "old" / "edition.json").write_bytes(orjson.dumps(record))
    assert files_of(verify(tmp_path / "old")) == {"edition.json"}
    for odd in ({"varlen_edition": 1}, {**record, "counts": 7}, {**record, "files": []}, {**record, "pipeline": []}, {**record, "counts": {"a": 1}}):
        (tmp_path / "old" / "edition.json").write_bytes(orjson.dumps(odd))
        assert files_of(verify(tmp_path / "old")) >= {"edition.json"}
