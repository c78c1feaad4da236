"""An edition's images for the screen: rows with their labels, and their pictures."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from numpy.typing import NDArray
from rest_framework.exceptions import NotFound
from varlen.datasets.image_files import decode
from varlen.editions.rows import Row
from varlen.errors import EditionError, VarlenError
from varlen.pipeline.document import from_json
from varlen.render.renderer import Renderer
from varlen.shapes.objects_json import objects_to_json

from varlen_server.datasets.models import Image
from varlen_server.editions.models import Edition
from varlen_server.editions.row_index import index_of
from varlen_server.previews import preview
from varlen_server.response_cache import cached_picture
from varlen_server.sheet.renderers import renderer_of


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
            "objects": _objects(renderer, row), "source_image": images.get(row["source"]),
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
