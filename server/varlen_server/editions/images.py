"""Where each row of an edition lies, and what it can be looked up by; made once and kept on disk.

A row is some kilobytes of JSON, an edition may have a hundred thousand: they stay in their
file, and only numbers about them are held.
"""

from __future__ import annotations

import io
from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
import orjson
from django.conf import settings
from numpy.typing import NDArray
from rest_framework.exceptions import NotFound
from varlen.atomic_files import write_whole
from varlen.datasets.image_files import decode
from varlen.editions.record import ROWS, read_record
from varlen.editions.rows import Row
from varlen.errors import EditionError, VarlenError
from varlen.pipeline.document import from_json
from varlen.render.renderer import Renderer
from varlen.shapes.objects_json import objects_to_json

from varlen_server.datasets.models import Image
from varlen_server.editions.models import Edition
from varlen_server.previews import cached_picture, preview
from varlen_server.sheet.renderers import renderer_of


class RowIndex:
    """Numbers about the rows of one edition.

    starts: (N + 1,) int64 byte offsets; split, variant: (N,) places in `splits`, numbers;
    fired: (N, S) bool, which steps happened; classes: (N, C) bool, which classes are there;
    lost: (N,) objects dropped; sources: the image each row was made from.
    """

    def __init__(self, path: Path, arrays: Mapping[str, NDArray[Any]]) -> None:
        self.path = path
        self.starts, self.split, self.variant, self.lost = (arrays[name] for name in ("starts", "split", "variant", "lost"))
        self.splits, self.steps, self.classes_named, self.sources = (
            arrays[name].tolist() for name in ("splits", "steps", "classes_named", "sources")
        )  # fmt: skip
        self.fired = np.unpackbits(arrays["fired"], axis=1, count=len(self.steps)).astype(bool)
        self.classes = np.unpackbits(arrays["classes"], axis=1, count=len(self.classes_named)).astype(bool)

    def chosen(self, wish: Mapping[str, str]) -> NDArray[np.int64]:
        """Numbers of the rows that answer to split, step, class, variant, lost (0 or 1) and part of the source's name."""
        keep = np.ones(len(self.split), bool)
        if split := wish.get("split"):
            keep &= self.split == (self.splits.index(split) if split in self.splits else -1)
        if step := wish.get("step"):
            keep &= self.fired[:, self.steps.index(step)] if step in self.steps else False
        if name := wish.get("class"):
            keep &= self.classes[:, self.classes_named.index(name)] if name in self.classes_named else False
        if variant := wish.get("variant"):
            keep &= self.variant == (int(variant) if variant.isdigit() else -1)
        if lost := wish.get("lost"):
            keep &= (self.lost > 0) == (lost == "1")
        if source := wish.get("source"):
            keep &= np.array([source == each for each in self.sources], bool)
        if part := wish.get("name", "").lower():
            keep &= np.array([part in source.lower() for source in self.sources], bool)
        return np.flatnonzero(keep)

    def facets(self) -> dict[str, Any]:
        """How many rows each step happened in, how many are of each variant, and how many lost objects."""
        numbers, counts = np.unique(self.variant, return_counts=True)
        return {
            "steps": [{"name": step, "count": count} for step, count in zip(self.steps, self.fired.sum(axis=0).tolist(), strict=False)],
            "variants": [{"name": str(number), "count": count} for number, count in zip(numbers.tolist(), counts.tolist(), strict=True)],
            "lost": int(np.count_nonzero(self.lost)),
        }

    def row(self, number: int) -> Row:
        """One row as it was written. Raises `EditionError` when there is none of that number."""
        if not 0 <= number < len(self.split):
            raise EditionError(f"{self.path}: there is no row {number}")
        with self.path.open("rb") as rows:
            rows.seek(int(self.starts[number]))
            found: Row = orjson.loads(rows.read(int(self.starts[number + 1] - self.starts[number])))
        return found


@lru_cache(maxsize=8)
def index_of(folder: Path, output_digest: str) -> RowIndex:
    """The index of an edition; made on the first call. Raises `EditionError` when its rows can't be read."""
    kept = settings.TILES / "rows-2" / f"{output_digest.removeprefix('sha256:')}.npz"
    if not kept.exists():
        _write(folder, kept)
    with np.load(kept) as arrays:
        return RowIndex(folder / ROWS, dict(arrays))


def _write(folder: Path, kept: Path) -> None:
    record = read_record(folder)
    steps = [step["id"] for step in record["pipeline"]["steps"]]
    classes = list(dict.fromkeys(name for split in record["counts"].values() for name in (*split["classes"], *split.get("image_classes", ()))))
    splits = list(record["counts"])
    places = {name: place for place, name in enumerate(classes)}
    starts, split, variant, lost, sources = [0], [], [], [], []
    fired, there = [], []
    try:
        with (folder / ROWS).open("rb") as rows:
            for line in rows:
                row = orjson.loads(line)
                starts.append(starts[-1] + len(line))
                split.append(splits.index(row["split"]))
                variant.append(row["variant"])
                lost.append(len(row["trace"]["objects"]["dropped"]))
                sources.append(row["source"])
                happened = {step["id"] for step in row["trace"]["steps"] if step["fired"]}
                fired.append(np.packbits([step in happened for step in steps] or [False]))
                has = np.zeros(max(len(classes), 1), bool)
                has[[places[name] for name in (*row.get("classes", {}), *row.get("image_classes", ())) if name in places]] = True
                there.append(np.packbits(has))
    except (OSError, orjson.JSONDecodeError, KeyError, ValueError) as error:
        raise EditionError(f"{folder / ROWS}: missing or damaged ({error})") from None
    out = io.BytesIO()
    np.savez(out, starts=np.array(starts, np.int64), split=np.array(split, np.int16), variant=np.array(variant, np.int32),
             lost=np.array(lost, np.int32), splits=np.array(splits, str), steps=np.array(steps, str), classes_named=np.array(classes, str),
             sources=np.array(sources, str), fired=np.array(fired, np.uint8), classes=np.array(there, np.uint8))  # fmt: skip
    write_whole(kept, out.getvalue(), lasting=False)


def row_or_404(edition: Edition, number: int) -> Row:
    """One row as it was written."""
    try:
        return index_of(edition.folder, edition.output_digest).row(number)
    except EditionError as error:
        raise NotFound(str(error)) from None


def page_of_rows(edition: Edition, wish: dict[str, Any]) -> dict[str, Any]:
    """The rows that meet every filter in `wish`, from `offset` on, and what can be filtered by."""
    index = index_of(edition.folder, edition.output_digest)
    chosen = index.chosen(wish)
    rows = [index.row(number) for number in chosen[wish["offset"] : wish["offset"] + wish["count"]].tolist()]
    return {"total": len(chosen), **index.facets(), "rows": shown_rows(edition, rows)}


def shown_rows(edition: Edition, rows: list[Row]) -> list[dict[str, Any]]:
    """Rows with what a screen needs: size, address of the picture, and labels, which follow from the trace."""
    renderer = _renderer(edition)
    images = {}
    if edition.dataset is not None:
        keys = {row["source"] for row in rows}
        images = dict(Image.objects.filter(dataset=edition.dataset, key__in=keys).values_list("key", "pk"))
    shown = []
    for row in rows:
        digest = row["pixel_digest"].rpartition(":")[2]
        width, height = row["trace"]["size"]
        shown.append({
            **row, "width": width, "height": height, "address": f"/api/editions/{edition.pk}/pictures/{row['row']}/{digest}",
            "objects": _objects(renderer, row), "source_image": images.get(row["source"]), "image_classes": row.get("image_classes", []),
        })  # fmt: skip
    return shown


def picture(edition: Edition, number: int, digest: str, width: int) -> bytes:
    """A picture of an edition as it lies in its folder, as JPEG, at most `width` px wide. Raises `NotFound`."""
    cached: Path = settings.TILES / "editions" / digest[:2] / f"{digest}-{width}.jpg"

    def make() -> bytes:
        row = row_or_404(edition, number)
        if not row["pixel_digest"].endswith(digest):
            raise NotFound("There is no such picture.")
        return preview(_pixels(edition, row), width)

    return cached_picture(cached, make)


def _renderer(edition: Edition) -> Renderer | None:
    """What made the edition; None when its dataset is not here as it was."""
    if edition.dataset is None or edition.dataset.digest != edition.dataset_digest:
        return None
    return renderer_of(edition.dataset.pk, edition.dataset_digest, from_json(edition.document))


def _pixels(edition: Edition, row: Row) -> NDArray[np.uint8]:
    """From the file; pictures inside shards are made again."""
    path = edition.folder / row["file"]
    if path.is_file():
        return decode(path.read_bytes(), row["file"])
    renderer = _renderer(edition)
    if renderer is None:
        raise NotFound("This picture lies inside a shard, and its dataset is not here to make it again.")
    return renderer.pixels(renderer.replan(row["trace"]))


def _objects(renderer: Renderer | None, row: Row) -> list[dict[str, Any]]:
    if renderer is None:
        return []
    try:
        found = renderer.variant_labels(row["source"], row["variant"], renderer.replan(row["trace"]))
    except VarlenError:
        return []
    return objects_to_json(found.objects, renderer.dataset.classes)
