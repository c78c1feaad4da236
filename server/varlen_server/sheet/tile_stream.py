"""Tiles as one binary stream: labels and a quick look of each first, the exact pictures after them.

A frame is two little-endian 32-bit lengths, a JSON head and a JPEG; either part may be empty:

- `{"place": n, "exact": false, "tile": {…}}` and a quick look, or the exact picture where that costs no more,
- `{"place": n, "exact": true}` and the exact picture that takes the quick look's place,
- `{"runs": […]}`: which steps share a resample, once everything is in sight.
"""

from __future__ import annotations

import struct
import time
from base64 import b64encode
from collections import Counter, deque
from collections.abc import Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, wait
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass, replace
from functools import lru_cache, partial
from pathlib import Path
from typing import Any, NamedTuple

import orjson
from django.db import close_old_connections
from rest_framework.exceptions import NotFound
from varlen.errors import VarlenError
from varlen.pipeline.document import from_json
from varlen.pipeline.plan import Plan
from varlen.render.quick_look import quick_look
from varlen.render.renderer import Renderer

from varlen_server.datasets.models import Image
from varlen_server.pipelines.models import register
from varlen_server.previews import cached_json, screen_jpeg
from varlen_server.sheet.render_pool import RenderProcess, foreground, render_processes
from varlen_server.sheet.renderers import renderer_of
from varlen_server.sheet.services import Bench, asked_path, dataset_of, exact_picture, kept_picture, key_of, refused, runs_of, tile_facts

#: What a tile is in sight for before its exact picture is begun: the browser paints meanwhile.
REST_SECONDS = 0.06
#: Orders that a process has before it, so that it need not wait for the next.
AHEAD = 2
#: So many processes may die of one order.
MOST_LOST = 2


@dataclass(frozen=True, slots=True)
class Order:
    """One tile that is asked for.

    document: the pipeline as JSON text; width: of its picture, 0 for none; quick: a quick look may stand for the picture; picture_only: without
    labels and trace.
    """

    place: int
    dataset: int
    snapshot: str
    document: str
    image: int
    variant: int
    width: int
    quick: bool = True
    picture_only: bool = False


class MadeTile(NamedTuple):
    """What came of an order. tile: labels and trace as JSON, none for a picture alone; exact: whether the picture is the exact one."""

    tile: bytes
    picture: bytes
    exact: bool

    def frame(self, place: int) -> bytes:
        head: dict[str, Any] = {"place": place, "exact": self.exact}
        if self.tile:
            head["tile"] = orjson.Fragment(self.tile)
        return frame(head, self.picture)


@lru_cache(maxsize=64)
def renderer_by_text(dataset: int, snapshot: str, document: str) -> Renderer:
    """A renderer for a pipeline's JSON text. Raises `PipelineError`."""
    return renderer_of(dataset, snapshot, from_json(orjson.loads(document)))


def frame(head: dict[str, Any], picture: bytes = b"") -> bytes:
    text = orjson.dumps(head, option=orjson.OPT_SERIALIZE_NUMPY)
    return struct.pack("<II", len(text), len(picture)) + text + picture


def made_there(order: Order) -> MadeTile:
    """`made` in a render process, which no request begins and ends."""
    close_old_connections()
    try:
        return made(order)
    finally:
        close_old_connections()


def made(order: Order) -> MadeTile:
    """Carry out an order."""
    renderer = renderer_by_text(order.dataset, order.snapshot, order.document)
    key = key_of(order.image, order.dataset)
    try:
        if order.picture_only:
            return MadeTile(b"", _exact(order, renderer, renderer.plan(key, order.variant)), True)
        return _with_labels(order, renderer, key)
    except VarlenError as error:
        return MadeTile(_json(refused(renderer, key, order.variant, str(error))), b"", True)


def _with_labels(order: Order, renderer: Renderer, key: str) -> MadeTile:
    """Labels, trace and, where one is wanted, the picture that is there soonest."""
    facts, plan = tile_facts(order.dataset, order.snapshot, renderer, order.image, key, order.variant)
    if plan is None or not order.width:
        return MadeTile(_json(facts), b"", True)
    tile = _json({**facts, "picture_width": order.width})
    kept = kept_picture(_asked(order, renderer))
    small = None if kept or not order.quick else quick_look(plan, order.width)
    if small is None:
        return MadeTile(tile, kept or _exact(order, renderer, plan), True)
    return MadeTile(tile, screen_jpeg(renderer.pixels(small)), False)


def _json(value: Any) -> bytes:
    return orjson.dumps(value, option=orjson.OPT_SERIALIZE_NUMPY)


def _asked(order: Order, renderer: Renderer) -> Path:
    """Where the exact picture is kept under the tile's address."""
    return asked_path(order.snapshot, renderer.pipeline.digest, order.image, order.variant, order.width)


def _exact(order: Order, renderer: Renderer, plan: Plan) -> bytes:
    return exact_picture(renderer, plan, order.width, _asked(order, renderer))


def carried_out(orders: Sequence[Order]) -> Iterator[tuple[Order, MadeTile]]:
    """Orders with what came of them, as they are ready. Closing the generator cancels those that have not begun."""
    if processes := render_processes():
        with foreground():
            yield from _in_processes(orders, processes)
        return
    for order in orders:
        with foreground():
            found = made(order)
        yield order, found


def _in_processes(orders: Sequence[Order], processes: Sequence[RenderProcess]) -> Iterator[tuple[Order, MadeTile]]:
    """A picture's orders go to the process that has it decoded; one that has nothing to do takes from the longest queue."""
    queues = [deque[Order]() for _ in processes]
    for order in orders:
        queues[order.image % len(queues)].append(order)
    running: dict[Future[MadeTile], tuple[Order, int]] = {}
    lost = Counter[int]()

    def fill(number: int) -> None:
        while sum(at == number for _, at in running.values()) < AHEAD and any(queues):
            order = queues[number].popleft() if queues[number] else max(queues, key=len).pop()
            running[processes[number].submit(made_there, order)] = order, number

    try:
        for number in range(len(processes)):
            fill(number)
        while running:
            finished, _ = wait(running, return_when=FIRST_COMPLETED)
            for future in finished:
                order, number = running.pop(future)
                try:
                    found = future.result()
                except BrokenProcessPool:
                    lost[order.place] += 1
                    if lost[order.place] >= MOST_LOST:
                        raise
                    queues[number].appendleft(order)
                    found = None
                fill(number)
                if found is not None:
                    yield order, found
    finally:
        for future in running:
            future.cancel()


def tile_stream(dataset_id: int, documents: Sequence[dict[str, Any]], tiles: Sequence[Sequence[int]], width: int, exact: bool) -> Iterator[bytes]:
    """Frames for tiles, each a document's place, an image and a variant. exact: whether quick looks are followed by exact pictures.

    Before the first frame it raises `Http404` and `NotFound` for a dataset or an image that is not here, and `PipelineError` for a document
    that can't be used.
    """
    dataset = dataset_of(dataset_id)
    texts = [orjson.dumps(document).decode() for document in documents]
    renderers = [renderer_by_text(dataset.pk, dataset.digest, text) for text in texts]
    for image in {image for _, image, _ in tiles}:
        key_of(image, dataset.pk)
    orders = [Order(place, dataset.pk, dataset.digest, texts[number], image, variant, width) for place, (number, image, variant) in enumerate(tiles)]
    return _stream(orders, (dataset.pk, dataset.digest), renderers, exact)


def _stream(orders: Sequence[Order], snapshot: tuple[int, str], renderers: Sequence[Renderer], exactly: bool) -> Iterator[bytes]:
    inexact = []
    for order, found in carried_out(orders):
        if not found.exact:
            inexact.append(replace(order, picture_only=True))
        yield found.frame(order.place)
    # Only now, so that no tile waits for it: what is done with a tile's address comes later still.
    register(*(renderer.pipeline for renderer in renderers))
    if len(renderers) == 1:
        yield frame({"runs": orjson.Fragment(runs_of(*snapshot, renderers[0]))})
    if exactly and inexact:
        time.sleep(REST_SECONDS)
        for order, found in carried_out(sorted(inexact, key=lambda order: order.place)):
            yield found.frame(order.place)


def sheet(bench: Bench, images: list[int], variants: int, width: int) -> bytes:
    """Rows of tiles as JSON, each from the disk or made now, and which steps share a resample. Raises `NotFound`."""
    dataset = bench.dataset
    found = Image.objects.filter(dataset=dataset, left_out=False).only("key", "split").in_bulk(images)
    if lost := [pk for pk in images if pk not in found]:
        raise NotFound(f"The dataset has no image {lost[0]}.")
    about = [dataset.pk, *bench.key, variants, width]
    rows = [cached_json("rows", [*about, pk], partial(_row, bench, found[pk], variants, width)) for pk in images]
    runs = runs_of(dataset.pk, dataset.digest, bench.renderer)
    return orjson.dumps({"pipeline_digest": bench.pipeline.digest, "rows": [orjson.Fragment(row) for row in rows], "runs": orjson.Fragment(runs)})


def _row(bench: Bench, image: Image, variants: int, width: int) -> dict[str, Any]:
    # Evaluation images have one output only: through the `every` steps.
    numbers = range(1, variants + 1) if image.split == "train" else [0]
    text = orjson.dumps(bench.pipeline.to_json()).decode()
    about = bench.dataset.pk, bench.dataset.digest, text, image.pk
    orders = [Order(place, *about, number, width, quick=False) for place, number in enumerate(numbers)]
    tiles: list[dict[str, Any]] = [{}] * len(orders)
    for order, made_tile in carried_out(orders):
        tile = orjson.loads(made_tile.tile)
        tiles[order.place] = {**tile, "picture": "data:image/jpeg;base64," + b64encode(made_tile.picture).decode() if made_tile.picture else ""}
    return {"image": image.pk, "tiles": tiles}
