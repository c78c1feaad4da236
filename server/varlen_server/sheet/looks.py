"""Tiles as one binary stream: labels and a quick look of each first, the exact pictures after them.

A frame is two little-endian 32-bit lengths, a JSON head and a JPEG; either part may be empty:

- `{"place": n, "exact": false, "tile": {…}}` and a quick look, or the exact picture where that costs no more,
- `{"place": n, "exact": true}` and the exact picture that takes the quick look's place,
- `{"runs": […]}`: which steps share a resample, once everything is in sight.
"""

from __future__ import annotations

import queue
import struct
import threading
import time
from collections import deque
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import Any

import orjson
from varlen.errors import VarlenError
from varlen.pipeline.document import from_json
from varlen.pipeline.plan import Plan
from varlen.render.quick_look import quick_look
from varlen.render.renderer import Renderer

from varlen_server.pipelines.services import register
from varlen_server.previews import screen_jpeg
from varlen_server.sheet import hands
from varlen_server.sheet.priority import foreground
from varlen_server.sheet.renderers import renderer_of
from varlen_server.sheet.services import asked_path, dataset_of, exact_picture, kept_picture, key_of, refused, runs_of, tile_facts

#: What a tile is in sight for before its exact picture is begun: the browser paints meanwhile.
REST_SECONDS = 0.06


@dataclass(frozen=True, slots=True)
class Order:
    """One tile that is asked for. document: the pipeline as JSON text; exact: the exact picture, without its labels."""

    place: int
    dataset: int
    snapshot: str
    document: str
    image: int
    variant: int
    width: int
    exact: bool = False

    def to_bytes(self) -> bytes:
        return orjson.dumps(self)


@lru_cache(maxsize=64)
def renderer_by_text(dataset: int, snapshot: str, document: str) -> Renderer:
    """A renderer for a pipeline's JSON text. Raises `PipelineError`."""
    return renderer_of(dataset, snapshot, from_json(orjson.loads(document)))


def frame(head: dict[str, Any], picture: bytes = b"") -> bytes:
    text = orjson.dumps(head, option=orjson.OPT_SERIALIZE_NUMPY)
    return struct.pack("<II", len(text), len(picture)) + text + picture


def made(order: Order) -> tuple[bytes, bool]:
    """The frame for an order, and whether its picture is exact."""
    with foreground():
        renderer = renderer_by_text(order.dataset, order.snapshot, order.document)
        key = key_of(order.image, order.dataset)
        try:
            if order.exact:
                return frame({"place": order.place, "exact": True}, _exact(order, renderer, renderer.plan(key, order.variant))), True
            return _first(order, renderer, key)
        except VarlenError as error:
            return frame({"place": order.place, "exact": True, "tile": refused(renderer, key, order.variant, str(error))}), True


def _first(order: Order, renderer: Renderer, key: str) -> tuple[bytes, bool]:
    """Labels, trace and the picture that is there soonest."""
    facts, plan = tile_facts(order.dataset, order.snapshot, renderer, order.image, key, order.variant, arrays=True)
    head = {"place": order.place, "exact": True, "tile": {**facts, "picture_width": order.width}}
    if plan is None:
        return frame(head), True
    kept = kept_picture(_asked(order, renderer))
    small = None if kept else quick_look(plan, order.width)
    if small is None:
        return frame(head, kept or _exact(order, renderer, plan)), True
    return frame({**head, "exact": False}, screen_jpeg(renderer.pixels(small))), False


def _asked(order: Order, renderer: Renderer) -> Path:
    """Where the exact picture is kept under the tile's address."""
    return asked_path(order.snapshot, renderer.pipeline.digest, order.image, order.variant, order.width)


def _exact(order: Order, renderer: Renderer, plan: Plan) -> bytes:
    return exact_picture(renderer, plan, order.width, _asked(order, renderer))


class Batch:
    """The orders of one answer, made by this process and by its siblings; frames come out as they are ready."""

    def __init__(self, orders: Sequence[Order]) -> None:
        self.todo, self.inexact = deque(orders), list[Order]()
        self.own = deque[Order]()  # what a sibling could not make: done here, so that it is here that it is said why
        self.ready = queue.SimpleQueue[bytes]()
        self.stopped = False
        self.lock = threading.Lock()

    def next(self) -> Order | None:
        """The next order to be carried out; None when there is none at the moment."""
        with self.lock:
            return self.todo.popleft() if self.todo and not self.stopped else None

    def give_back(self, order: Order) -> None:
        """An order that was not carried out."""
        with self.lock:
            self.todo.appendleft(order)

    def refuse(self, order: Order) -> None:
        """An order that a sibling failed at."""
        with self.lock:
            self.own.append(order)

    def done(self, order: Order, found: bytes, exact: bool) -> None:
        with self.lock:
            if not exact:
                self.inexact.append(order)
        self.ready.put(found)

    def frames(self) -> Iterator[bytes]:
        """All frames of one round; the siblings help as long as there is something to do."""
        left = len(self.todo)
        hands.help_with(self)
        try:
            while left:
                order = self.own.popleft() if self.own else self.next()
                if order is not None:
                    self.done(order, *made(order))
                while left:
                    try:
                        # With nothing of its own to do it waits for the others; a sibling that went away gives its order back.
                        found = self.ready.get_nowait() if self.todo or self.own else self.ready.get(timeout=0.05)
                    except queue.Empty:
                        break
                    left -= 1
                    yield found
        finally:
            self.stopped = True

    def again_exactly(self) -> Batch:
        """The orders whose quick looks are to be replaced."""
        return Batch([replace(order, exact=True) for order in sorted(self.inexact, key=lambda order: order.place)])


def looks(dataset_id: int, documents: Sequence[dict[str, Any]], tiles: Sequence[Sequence[int]], width: int, exact: bool) -> Iterator[bytes]:
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
    quick = Batch(orders)
    yield from quick.frames()
    # Only now, so that nobody waits for it: what is done with a tile's address comes later still.
    register(*(renderer.pipeline for renderer in renderers))
    if len(renderers) == 1:
        yield frame({"runs": orjson.Fragment(runs_of(*snapshot, renderers[0]))})
    exact = quick.again_exactly()
    if exactly and exact.todo:
        time.sleep(REST_SECONDS)
        yield from exact.frames()
