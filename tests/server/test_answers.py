"""What is sent to a client: archives in any parts, answers that are kept, errors in words, pictures for the screen."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from django.test import RequestFactory
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from rest_framework.exceptions import NotFound, ValidationError
from varlen.datasets.image_files import decode
from varlen.errors import DatasetError, EditionError, PipelineError
from varlen_server.content_store import StoredFiles, keep, path_of
from varlen_server.editions.zip_stream import Zip, part_asked, zip_response
from varlen_server.encoded_json import encoded, storable
from varlen_server.errors import Conflict, explain
from varlen_server.json_renderer import FastJSONRenderer
from varlen_server.previews import WIDTHS, cached_json, check_width, map_response, preview

CONTENT = {"a.txt": b"moth", "images/night é.png": bytes(range(256)) * 9, "images/empty": b"", "z/labels.json": b"{}" * 400}


@pytest.fixture
def archive(tmp_path: Path) -> Zip:
    for name, data in CONTENT.items():
        (tmp_path / "folder" / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / "folder" / name).write_bytes(data)
    return Zip(tmp_path / "folder", "one")


def test_an_archive_holds_every_file_as_it_is(archive: Zip) -> None:
    data = b"".join(archive.blocks())
    assert len(data) == archive.length
    with zipfile.ZipFile(io.BytesIO(data)) as opened:
        assert opened.testzip() is None
        assert {name: opened.read(name) for name in opened.namelist()} == CONTENT


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.data())
def test_any_part_of_an_archive_is_that_part(archive: Zip, data: st.DataObject) -> None:
    whole = b"".join(archive.blocks())
    start = data.draw(st.integers(0, archive.length))
    end = data.draw(st.integers(start, archive.length + 5))
    assert b"".join(archive.blocks(start, end)) == whole[start:end]


@pytest.mark.parametrize(
    ("asked", "part"),
    [
        ("", None), ("bytes=-", None), ("lines=1-2", None), ("bytes=1-2,5-6", None), ("bytes=0-9", (0, 10)), ("bytes=5-", (5, 100)),
        ("bytes=-10", (90, 100)), ("bytes=-500", (0, 100)), ("bytes=90-500", (90, 100)), ("bytes=99-99", (99, 100)),
    ],
)  # fmt: skip
def test_parts_that_can_be_asked_for(asked: str, part: tuple[int, int] | None) -> None:
    assert part_asked(RequestFactory().get("/", headers={"Range": asked}), 100, '"e"') == part
    assert part_asked(RequestFactory().get("/", headers={"Range": asked, "If-Range": '"older"'}), 100, '"e"') is None


@pytest.mark.parametrize("asked", ["bytes=100-", "bytes=100-120", "bytes=9-8", "bytes=-0"])
def test_parts_that_are_not_there(archive: Zip, asked: str) -> None:
    with pytest.raises(ValueError, match=r"of 100"):
        part_asked(RequestFactory().get("/", headers={"Range": asked}), 100, '"e"')
    beyond = RequestFactory().get("/", headers={"Range": f"bytes={archive.length}-"})
    answer = zip_response(beyond, archive, "moths.zip", '"e"')
    assert (answer.status_code, answer.headers["Content-Range"]) == (416, f"bytes */{archive.length}")


def test_an_answer_is_made_once_for_a_question(settings: Any) -> None:
    made: list[int] = []

    def make() -> dict[str, int]:
        made.append(1)
        return {"made": len(made)}

    first = cached_json("forecasts", ["digest", 1], make)
    assert cached_json("forecasts", ["digest", 1], make) == first == b'{"made":1}'
    assert cached_json("forecasts", ["digest", 2], make) == b'{"made":2}'
    assert cached_json("costs", ["digest", 1], make) == b'{"made":3}'
    assert len(list(settings.TILES.rglob("*.json"))) == 3


def test_a_question_whose_answer_fails_is_asked_again() -> None:
    def fail() -> None:
        raise EditionError("not now")

    with pytest.raises(EditionError):
        cached_json("forecasts", ["x"], fail)
    assert cached_json("forecasts", ["x"], lambda: 1) == b"1"


@pytest.mark.parametrize(
    ("error", "status", "message", "problems"),
    [
        (PipelineError(["first", "second"]), 422, "first", ["first", "second"]),
        (DatasetError("a.png is damaged"), 422, "a.png is damaged", ["a.png is damaged"]),
        (NotFound("no such image"), 404, "no such image", ["no such image"]),
        (Conflict("someone saved before you"), 409, "someone saved before you", ["someone saved before you"]),
        (ValidationError({"steps": {"0": ["must be an object"]}, "seed": ["too large", "no"]}), 400, "steps0: must be an object",
         ["steps0: must be an object", "seed: too large", "seed: no"]),
        (ValidationError([]), 400, "The request can't be carried out.", []),
    ],
)  # fmt: skip
def test_errors_become_one_clear_message_and_all_problems(error: Exception, status: int, message: str, problems: list[str]) -> None:
    answer = explain(error, {})
    assert answer is not None
    assert (answer.status_code, answer.data) == (status, {"message": message, "problems": problems})


def test_other_errors_stay_the_server_s() -> None:
    assert explain(RuntimeError("a slip of ours"), {}) is None


def test_json_of_numbers_json_does_not_know() -> None:
    assert storable({"a": float("nan"), "b": [float("inf"), 1.5]}) == {"a": None, "b": [None, 1.5]}
    assert storable({}) == {}
    assert json.loads(encoded({"box": np.array([[1.5, 2.0]]), "n": np.int64(3)})) == {"box": [[1.5, 2.0]], "n": 3}
    assert FastJSONRenderer().render({1: Path("a")}) == b'{"1":"a"}'
    assert FastJSONRenderer().render(None) == b""


@pytest.mark.parametrize(
    ("size", "width", "expected"),
    [((1000, 500), 480, (480, 240)), ((300, 200), 480, (300, 200)), ((1920, 1), 160, (160, 1)), ((961, 33), 480, (480, 16))],
)
def test_pictures_for_the_screen_are_no_wider_than_asked_for(size: tuple[int, int], width: int, expected: tuple[int, int]) -> None:
    pixels = np.full((size[1], size[0], 3), 90, np.uint8)
    small = decode(preview(pixels, width), "small")
    assert small.shape == (expected[1], expected[0], 3)
    assert np.abs(small.astype(int) - 90).max() <= 2


def test_only_a_few_widths_and_maps_that_are_there() -> None:
    for width in WIDTHS:
        check_width(width)
    with pytest.raises(NotFound, match="160, 240"):
        check_width(161)
    with pytest.raises(NotFound):
        map_response(None)
    levels = np.arange(12, dtype=np.uint8).reshape(3, 4)
    answer = map_response(levels)
    assert (decode(answer.content, "map")[..., 0] == levels).all()
    assert "immutable" in answer.headers["Cache-Control"]


def test_a_picture_in_the_store_is_never_replaced_and_a_lost_one_is_named(tmp_path: Path) -> None:
    digest = "ab" * 32
    keep(tmp_path, digest, b"first")
    keep(tmp_path, digest, b"second")
    files = StoredFiles("moths", tmp_path, {"images/a.png": digest, "images/b.png": "cd" * 32})
    assert files.read("images/a.png") == b"first"
    assert path_of(tmp_path, digest).parent.name == "ab"
    for path in ("images/b.png", "images/c.png"):
        with pytest.raises(DatasetError, match=f"{path}: its file is gone"):
            files.read(path)
