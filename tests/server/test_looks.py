"""Tiles in one stream: quick looks, then exact pictures; made by this process and by its siblings."""

from __future__ import annotations

import json
import os
import struct
import subprocess
import sys
import time
from collections.abc import Iterator
from typing import Any

import numpy as np
import pytest
from django.test import Client
from varlen.datasets.image_files import decode
from varlen_server.sheet import hands, looks

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


SIBLING = """
import os, sys
import django
django.setup()
from varlen_server.sheet import hands
hands._address = lambda slot: f"\\0varlen-test-{sys.argv[1]}-{slot}"
if sys.argv[2] == "dies":
    def die(connection):
        connection.recv_bytes()
        os._exit(1)
    hands._serve = die
hands.offer(1)
print("ready", flush=True)
sys.stdin.read()
"""


@pytest.mark.parametrize("fate", ["fails", "dies"])
def test_a_sibling_that_fails_or_dies_costs_nothing_but_its_help(
    client: Client, wish: dict[str, Any], fate: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A real process beside this one: it has no such dataset in its database and fails at every order, or goes away in the middle of one."""
    name = str(os.getpid())
    monkeypatch.setattr(hands, "_address", lambda slot: f"\0varlen-test-{name}-{0 if slot == 1 else 9}")
    monkeypatch.setattr(hands, "_place", (0, 2))
    handed: list[looks.Order] = []
    to_bytes = looks.Order.to_bytes
    monkeypatch.setattr(looks.Order, "to_bytes", lambda order: (handed.append(order), to_bytes(order))[1])
    sibling = subprocess.Popen([sys.executable, "-c", SIBLING, name, fate], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    try:
        assert sibling.stdout is not None
        assert sibling.stdout.readline() == "ready\n"
        frames = asked(client, **wish)
        assert sorted(head["place"] for head, _ in frames if "tile" in head) == list(range(6))
        until = time.monotonic() + 10
        while not handed and time.monotonic() < until:  # it may have been too late for the first wish
            frames = asked(client, **{**wish, "documents": [{**wish["documents"][0], "seed": time.monotonic_ns() % 10**6}]})
        assert handed
        assert sorted(head["place"] for head, _ in frames if "tile" in head) == list(range(6))
    finally:
        assert sibling.stdin is not None
        sibling.stdin.close()
        sibling.wait(20)
