"""Making one image of an edition again, from its record and the source dataset."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from pathlib import Path

import orjson

from varlen._version import __version__
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import WRITERS
from varlen.datasets.image_files import encode
from varlen.editions.record import EditionRecord, read_record
from varlen.editions.rows import Row, images_of
from varlen.editions.source import recorded_pipeline
from varlen.errors import EditionError
from varlen.pipeline.trace import Trace
from varlen.render.renderer import Renderer


@dataclass(frozen=True, slots=True)
class Recreated:
    """An image made again: its file's bytes, its row in the edition, and one line for each thing that is not as it was. See `recreate`."""

    data: bytes
    row: Row
    differences: list[str]

    @property
    def identical(self) -> bool:
        """True when pixels, labels and the file's bytes are those of the edition."""
        return not self.differences


def recreate(edition: Path, row: Row, dataset: Dataset) -> Recreated:
    """Make the image of `row` again: nothing is drawn, the values in its trace are used.

    Raises `EditionError` when the source picture is no longer the one the edition was made from.
    """
    record = read_record(edition)
    pipeline = recorded_pipeline(edition, record)
    trace = row["trace"]
    for key, digest in images_of(row).items():
        if key not in dataset.entries:
            raise EditionError(f"{key}: no such image in {dataset.name}")
        if dataset.source_digest(key) != digest:
            raise EditionError(f"{key}: the source picture has changed since the edition was made")
    renderer = Renderer(dataset, pipeline)
    plan = renderer.replan(trace)
    outcome = renderer.variant_labels(row["source"], row["variant"], plan)
    pixels = renderer.render_pixels(plan, outcome)
    data = encode(pixels, record["image"], record["quality"])
    return Recreated(data, row, _differences(record, row, outcome.trace, data))


def _differences(record: EditionRecord, row: Row, trace: Trace, data: bytes) -> list[str]:
    found = []
    same_pixels = trace["pixel_digest"] == row["pixel_digest"]
    if not same_pixels:
        found.append("the pixels differ")
    now = orjson.loads(orjson.dumps(trace))
    for name in sorted(set(row["trace"]) | set(now)):
        if name != "pixel_digest" and row["trace"].get(name) != now.get(name):
            found.append(f"the trace differs in {name}")
    # Where pictures are arrays in shards there is no file to compare: `data` is for looking at.
    if same_pixels and WRITERS[record["format"]].coded and hashlib.sha256(data).hexdigest() != row["file_sha256"]:
        found.append("the pixels are identical, the file's bytes differ: another version of the image library")
    if found and record["varlen"] != __version__:
        found.append(f"the edition was made by Varlen {record['varlen']}, this is {__version__}")
    return found
