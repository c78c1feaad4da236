"""Tiles in one stream: quick looks, then exact pictures; made by render processes."""

from __future__ import annotations

import json
import os
import struct
import time
from collections.abc import Iterator
from concurrent.futures.process import BrokenProcessPool
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from django.test import Client
from varlen.datasets.image_files import decode
from varlen_server.sheet import tile_stream
from varlen_server.sheet.render_pool import RenderProcess
from varlen_server.sheet.tile_stream import MadeTile, Order

from tests.server.test_api import post

pytestmark = pytest.mark.django_db

Frame = tuple[dict[str, Any], bytes]


def frames_of(data: bytes) -> Iterator[Frame]:
    """Heads and pictures of a stream."""
    while data:
        head, picture = struct.unpack_from("<II", data)
        yield json.loads(data[8 : 8 + head]), data[8 + head : 8 + head + picture]
        data = data[8 + head + picture :]


def asked(client: Client, **wish: Any) -> list[Frame]:
    answer = client.post("/api/looks", json.dumps(wish), content_type="application/json")
    assert answer.status_code == 200, answer.content[:300]
    return list(frames_of(answer.getvalue()))


@pytest.fixture
def wish(client: Client, moths: Any, lamp_drift: dict[str, Any]) -> dict[str, Any]:
    images = client.get(f"/api/datasets/{moths.pk}/rows?count=3").json()
    tiles = [[0, image["id"], variant] for image in images for variant in (1, 2)]
    return {"dataset": moths.pk, "documents": [lamp_drift], "tiles": tiles, "width": 160}


def test_quick_looks_come_first_and_are_replaced_by_the_exact_pictures(client: Client, wish: dict[str, Any]) -> None:
    frames = asked(client, **wish)
    quick = {head["place"]: (head["tile"], picture) for head, picture in frames if not head.get("exact", True)}
    exact = {head["place"]: picture for head, picture in frames if head.get("exact")}
    assert set(quick) == set(exact) == set(range(6))
    kinds = ["runs" if "runs" in head else head["exact"] for head, _ in frames]
    assert kinds == [False] * 6 + ["runs"] + [True] * 6
    sheet = post(client, "/api/sheet", {**{name: wish[name] for name in ("dataset", "width")}, "document": wish["documents"][0],
                                        "images": [wish["tiles"][0][1]], "variants": 2}).json()  # fmt: skip
    for place, tile in enumerate(sheet["rows"][0]["tiles"]):
        assert {**quick[place][0], "picture": ""} == {**tile, "picture": ""}
        assert exact[place] == client.get(f"{tile['address']}/160.jpg").content
    for place, (_, picture) in quick.items():
        looked, made = (decode(data, "tile").astype(int) for data in (picture, exact[place]))
        assert looked.shape == made.shape
        assert np.abs(looked - made).mean() < 4
    # Asked for again, the exact pictures are there at once.
    assert [head.get("exact") for head, _ in asked(client, **wish)] == [True] * 6 + [None]


def test_what_depends_on_full_size_pixels_has_no_quick_look(client: Client, wish: dict[str, Any]) -> None:
    document = {"varlen_pipeline": 1, "steps": [{"step": "noise", "probability": 1}]}
    frames = asked(client, **{**wish, "documents": [document]})
    assert [head.get("exact") for head, _ in frames] == [True] * 6 + [None]


def test_quick_looks_alone(client: Client, wish: dict[str, Any]) -> None:
    assert [head.get("exact") for head, _ in asked(client, **wish, exact=False)] == [False] * 6 + [None]


def test_a_tile_that_cannot_be_made_says_why_and_the_others_come(client: Client, wish: dict[str, Any]) -> None:
    huge = {"varlen_pipeline": 1, "steps": [{"step": "resize", "width_px": 30000, "height_px": 30000, "fit": "stretch"}]}
    first, second = wish["tiles"][:2]
    frames = asked(client, **{**wish, "documents": [huge, wish["documents"][0]], "tiles": [first, [1, *second[1:]]]})
    tiles = {head["place"]: head["tile"] for head, _ in frames if "tile" in head}
    assert "can't be made" in tiles[0]["error"]
    assert tiles[1]["error"] == ""


def test_wrong_wishes_are_refused_before_anything_is_made(client: Client, wish: dict[str, Any]) -> None:
    wrong = {**wish, "documents": [{"varlen_pipeline": 1, "steps": [{"step": "rotate", "degrees": [-30, 300]}]}]}
    refused = post(client, "/api/looks", wrong)
    assert refused.status_code == 422
    assert "degrees: 300 is outside" in refused.json()["message"]
    assert post(client, "/api/looks", {**wish, "tiles": [[0, 10**6, 1]]}).status_code == 404
    assert "document that was not sent" in post(client, "/api/looks", {**wish, "tiles": [[1, *wish["tiles"][0][1:]]]}).json()["message"]
    assert post(client, "/api/looks", {**wish, "width": 161}).status_code == 400


def _tile(order: Order) -> MadeTile:
    return MadeTile(b"", b"%d" % os.getpid(), True)


def _tile_or_death(order: Order) -> MadeTile:
    """Dies at variant 13 for ever, at variant 3 once."""
    once = Path(order.document)
    if order.variant == 13 or (order.variant == 3 and not once.exists()):
        once.touch()
        os._exit(1)
    return _tile(order)


def orders(tmp_path: Path, images: int, variants: int) -> list[Order]:
    every = [(image, variant) for image in range(images) for variant in range(variants)]
    return [Order(place, 1, "", str(tmp_path / "died"), image, variant, 160) for place, (image, variant) in enumerate(every)]


@pytest.fixture
def two_processes() -> Iterator[list[RenderProcess]]:
    found = [RenderProcess(), RenderProcess()]
    yield found
    for each in found:
        each._pool.shutdown()


def test_tiles_are_made_by_processes_and_none_is_lost_with_one_that_dies(
    two_processes: list[RenderProcess], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(tile_stream, "made_there", _tile_or_death)
    wanted = orders(tmp_path, 4, 6)
    made = list(tile_stream._in_processes(wanted, two_processes))
    assert sorted(order.place for order, _ in made) == list(range(24))
    assert (tmp_path / "died").exists()
    assert str(os.getpid()).encode() not in {tile.picture for _, tile in made}
    # One that kills every process is not tried for ever, and those that live go on.
    with pytest.raises(BrokenProcessPool):
        list(tile_stream._in_processes([replace(wanted[0], variant=13)], two_processes))
    monkeypatch.setattr(tile_stream, "made_there", _tile)
    assert len(list(tile_stream._in_processes(wanted, two_processes))) == 24


def test_a_single_picture_is_made_by_all_processes(two_processes: list[RenderProcess], tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(tile_stream, "made_there", _slow_tile)
    assert len({tile.picture for _, tile in tile_stream._in_processes(orders(tmp_path, 1, 8), two_processes)}) == 2


def _slow_tile(order: Order) -> MadeTile:
    time.sleep(0.05)
    return _tile(order)
