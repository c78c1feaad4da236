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
from varlen.datasets.skeleton import Skeleton
from varlen.datasets.sources import Files
from varlen.editions.keyed_lines import line_with, opened, parsed
from varlen.editions.record import SOURCES
from varlen.editions.rows import Row, images_of
from varlen.model.geometry import Size
from varlen.shapes.objects_json import objects_from_json, objects_to_json

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
