"""The labels of an edition's source images, kept with it where these are many: to make an image again, of the labels only its own are read.

`sources.jsonl`: a line with what all share, then a line an image, in the order of their keys, so that one is found by a few looks.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import orjson

from varlen.datasets.dataset import Dataset
from varlen.datasets.digests import labels_digest
from varlen.datasets.entry import Entry
from varlen.datasets.formats import read_dataset
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.skeleton import Skeleton
from varlen.datasets.sources import Files, open_files
from varlen.editions.record import RECORD, SOURCES, EditionRecord
from varlen.editions.rows import Row, images_of, line_with, opened, parsed, read_rows
from varlen.errors import EditionError, ReadProblems, VarlenError
from varlen.model.geometry import Size
from varlen.pipeline.document import Pipeline, from_json
from varlen.shapes.objects_json import objects_from_json, objects_to_json
from varlen.steps.base import CATALOGUE
from varlen.stores import url_of

#: Up to so many images the source's own label files are read as quickly, and an edition holds nothing twice.
FEW = 2000


def write_source_labels(file: Path, dataset: Dataset, splits: list[str]) -> bool:
    """Write the labels of all images of these splits, partners of their variants among them, where there are many; whether they are kept."""
    if len(dataset.entries) <= FEW:
        return False
    with file.open("wb") as out:
        head = {
            "classes": dataset.classes, "map_classes": dataset.map_classes, "mirror_classes": dataset.mirror_classes,
            "skeleton": [dataset.skeleton.names, dataset.skeleton.edges, dataset.skeleton.partners],
        }  # fmt: skip
        out.write(orjson.dumps(head) + b"\n")
        for entry in dataset.entries.values():
            if entry.split in splits:
                out.write(orjson.dumps(_said(entry, dataset.classes), option=orjson.OPT_SERIALIZE_NUMPY) + b"\n")
    return True


def _said(entry: Entry, classes: tuple[str, ...]) -> dict[str, Any]:
    said: dict[str, Any] = {"key": entry.key, "split": entry.split, "size": [entry.size.width, entry.size.height]}
    if entry.group:
        said["group"] = entry.group
    if entry.classes:
        said["classes"] = entry.classes
    if entry.label_map:
        said["label_map"] = entry.label_map
    objects = objects_to_json(entry.objects, classes, arrays=True)
    # What is not there need not be said of every object.
    said["objects"] = [{name: value for name, value in each.items() if value is not None and name not in ("image", "share")} for each in objects]
    return said


def dataset_of_row(edition: Path, row: Row, name: str, files: Files) -> Dataset | None:
    """A dataset of the images that a row was made from, their pictures in `files`.

    None where the edition has no such labels, or not those that its row names, or where a picture is not read just as it lies there.
    """
    with opened(edition, SOURCES) as lines:
        head = parsed(lines.readline(), edition / SOURCES)
        begin = lines.tell()
        classes = tuple(head["classes"])
        found = [line_with(lines, begin, "key", key, edition / SOURCES) for key in images_of(row)]
    entries = [_entry(said, classes) for said in found if said is not None]
    if len(entries) < len(found) or any(entry.label_map for entry in entries):
        return None
    if any(entry.key == row["source"] and labels_digest(entry, classes) != row.get("source_labels") for entry in entries):
        return None
    dataset = Dataset(name, classes, entries, files, _skeleton(head["skeleton"]))
    dataset.map_classes, dataset.mirror_classes = tuple(head["map_classes"]), head["mirror_classes"]
    return dataset


def _entry(said: dict[str, Any], classes: tuple[str, ...]) -> Entry:
    objects = objects_from_json([{"polygon": None, "mask": None, **each} for each in said["objects"]], classes, said["key"])
    width, height = said["size"]
    return Entry(
        said["key"], said["split"], Size(width, height), objects, {}, said.get("group", ""), tuple(said.get("classes", ())), said.get("label_map", "")
    )


def _skeleton(said: list[Any]) -> Skeleton:
    names, edges, partners = said
    return Skeleton(tuple(names), tuple((a, b) for a, b in edges), tuple(partners))


def source_of(edition: Path, record: EditionRecord, dataset: Path | None, name: str = "--dataset", row: Row | None = None) -> Dataset:
    """The dataset that an edition was made from, read as it was read then. Raises `VarlenError` where it isn't there.

    dataset: where it is now; name: what that is called where it is asked for; row: where that alone is to be made again: its labels are those
    that the edition keeps, unless another place was named.
    """
    source = dataset or Path(record.get("dataset_path") or "")
    if not source.name or not (url_of(source) or source.exists()):
        where = f"{source} is not there" if source.name else "the edition does not say where"
        raise VarlenError(f"{edition}: its source dataset is needed, and {where}; name it with {name}")
    options = ImportOptions.from_json(record.get("read_as", {}))
    if row is not None and dataset is None and "source_labels" in record and not options.levels and options.tile is None:
        kept = dataset_of_row(edition, row, record["dataset"], open_files(source))
        if kept is not None:
            return kept
    only = None if row is None else images_of(row)
    found = read_dataset(source, None, ReadProblems(strict=False), options, only=only, ask=False)  # what was read once is read again
    classes = {name: None for counts in record.get("counts", {}).values() for name in counts["classes"]}
    if classes and not (found.classes or found.map_classes):
        raise VarlenError(f"{source}: there are no labels in it; the edition was made from a dataset with {', '.join(list(classes)[:5])}")
    return found


def recorded_pipeline(edition: Path, record: EditionRecord) -> Pipeline:
    """The pipeline that an edition was made with. Raises `EditionError` where a step from outside is not known here."""
    missing = [name for name in record.get("outside_steps", {}) if name not in CATALOGUE]
    if missing:
        raise EditionError(f"{edition}: there is no step {missing[0]!r}; it came from outside when the edition was made: import the module that "
                           "defines it first, or name its file in VARLEN_STEPS")  # fmt: skip
    return from_json(record["pipeline"], str(edition))


def known_splits(path: Path) -> dict[str, str]:
    """The split of every picture of a dataset or edition, by the SHA-256 of its file; of editions that of its sources."""
    if (path / RECORD).is_file():
        return {row["source_sha256"]: row["split"] for row in read_rows(path)}
    other = read_dataset(path, ask=False)
    return {other.source_digest(key): entry.split for key, entry in other.entries.items()}
