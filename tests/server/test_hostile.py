"""Odd requests to every endpoint: whatever is sent, the answer is a refusal that says something, never a fault of the server's."""

from __future__ import annotations

import json
import os
import random
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pytest
import yaml
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from tests.core.datasets.trees import data_of
from tests.hostile.cases import KNOWN, ODD, tree_of

SCHEMA = yaml.safe_load((Path(__file__).resolve().parents[2] / "server" / "schema.yaml").read_text())
#: Not asked: it streams for as long as somebody listens, or answers with the whole schema.
PASSED_OVER = ("/api/schema",)
EACH = 14
NUMBERS = ("1", "0", "-1", "999999999999999999999999", "x", "1e9", "\u0661", "%00", "a%2Fb", "é")
FIELDS = [
    "dataset",
    "document",
    "variants",
    "originals",
    "name",
    "images",
    "width",
    "seed",
    "form",
    "classes",
    "total",
    "per_class",
    "balance",
    "shares",
    "order",
    "steps",
    "edits",
    "marks",
    "text",
    "scores",
    "draws",
    "parameter",
    "lose_at_most",
    "folder",
    "levels",
    "tile",
    "mirror_pairs",
    "datasets",
    "pipelines",
    "image",
    "quality",
    "format",
    "splits",
    "split_variants",
    "accept_loss",
]


def operations() -> list[tuple[str, str, dict[str, Any]]]:
    return [
        (path, method, operation)
        for path, methods in SCHEMA["paths"].items()
        for method, operation in methods.items()
        if not path.startswith(PASSED_OVER)
    ]


@pytest.fixture
def client() -> Client:
    """Faults become answers of 500, as they would for a browser."""
    return Client(raise_request_exception=False)


def odd_body(draw: random.Random, depth: int = 0) -> Any:
    """An object of names that some endpoint knows, with odd values."""
    if depth < 2 and draw.random() < 0.3:
        return {name: odd_body(draw, depth + 1) for name in draw.sample(FIELDS, draw.randrange(1, 4))}
    if depth < 2 and draw.random() < 0.2:
        return [odd_body(draw, depth + 1) for _ in range(draw.randrange(4))]
    return draw.choice((*ODD, 1, 3, "coco", [1], {"varlen_pipeline": 1, "steps": [{"step": "flip"}]}))


@pytest.mark.django_db
@pytest.mark.parametrize(("path", "method"), [operation[:2] for operation in operations()], ids=lambda each: str(each))
def test_odd_requests(client: Client, moths: Any, path: str, method: str) -> None:
    draw = random.Random(f"{method} {path}")
    operation = SCHEMA["paths"][path][method]
    queries = [each["name"] for each in operation.get("parameters", []) if each["in"] == "query"]
    for _ in range(EACH):
        address = path
        for part in [each["name"] for each in operation.get("parameters", []) if each["in"] == "path"]:
            address = address.replace(f"{{{part}}}", draw.choice((str(moths.pk), *NUMBERS)))
        asked = "&".join(f"{name}={quote(str(draw.choice(ODD)), errors='replace')[:300]}" for name in queries if draw.random() < 0.6)
        body: Any = {name: odd_body(draw) for name in draw.sample(FIELDS, draw.randrange(0, 9))}
        body = {"dataset": moths.pk, **body} if draw.random() < 0.5 else body
        raw = draw.choice((json.dumps(body), json.dumps(body), json.dumps(odd_body(draw)), "[" * 5000, "\x00", "{", '{"a": 1e999}', '"\\ud800"'))
        kind = draw.choice(("application/json", "application/json", "application/json", "multipart/form-data; boundary=x", "text/plain", ""))
        answer = client.generic(method.upper(), f"{address}?{asked}", raw.encode("utf-8", "surrogatepass"), content_type=kind)
        assert answer.status_code < 500, (method, address, asked, raw[:300], answer.content[:300])


@pytest.mark.django_db
@pytest.mark.parametrize("query", ["name=%00", "name=a%00b", "split=%ed%a0%80", "page=" + "9" * 400, "class=%ff%fe", "sort=%27%22;--"])
def test_odd_queries_of_lists(client: Client, moths: Any, query: str) -> None:
    for address in (f"/api/datasets/{moths.pk}/images", f"/api/datasets/{moths.pk}/images?split=train", "/api/folders", "/api/editions/1/images"):
        answer = client.get(f"{address}{'&' if '?' in address else '?'}{query}")
        assert answer.status_code < 500, answer.content[:200]


@pytest.mark.django_db
def test_a_body_nested_two_hundred_thousand_deep(client: Client) -> None:
    for raw in ("[" * 200_000, '{"name": ' + "[" * 200_000 + "]" * 200_000 + "}"):
        answer = client.post("/api/imports", raw, content_type="application/json")
        assert answer.status_code in (400, 413), answer.status_code


@pytest.mark.django_db
@pytest.mark.parametrize("seed", range(3000, 3600 if os.environ.get("VARLEN_BATTERY") else 3040))
def test_uploads_of_hostile_files(client: Client, seed: int) -> None:
    """The way of a browser: files are gathered, recognised, and read by a job that ends in a state that says why."""
    from varlen_server.datasets.models import DatasetImport
    from varlen_server.datasets.tasks import import_dataset_task

    files, _, _ = tree_of(seed)
    bring(client, files, DatasetImport, import_dataset_task)


@pytest.mark.django_db
@pytest.mark.parametrize("name", KNOWN)
def test_uploads_of_cases_found_before(client: Client, name: str) -> None:
    from varlen_server.datasets.models import DatasetImport
    from varlen_server.datasets.tasks import import_dataset_task

    files = {path: data_of(Path(path).suffix.lower(), content, number) for number, (path, content) in enumerate(KNOWN[name].items())}
    bring(client, files, DatasetImport, import_dataset_task)


def bring(client: Client, files: dict[str, bytes], imports: Any, task: Any) -> None:
    pk = client.post("/api/imports", {"name": "odd"}, content_type="application/json").json()["id"]
    uploads = [SimpleUploadedFile("f", data) for data in files.values()]
    answer = client.post(f"/api/imports/{pk}/files", {"file": uploads, "path": list(files)})
    assert answer.status_code in (200, 400, 422), answer.content[:300]
    if answer.status_code != 200:
        return
    seen = client.post(f"/api/imports/{pk}/recognise", {}, content_type="application/json")
    assert seen.status_code in (200, 400, 422), seen.content[:300]
    if seen.status_code != 200:
        assert seen.json()["message"]
        return
    client.get(f"/api/imports/{pk}/example.jpg")
    begun = client.post(f"/api/imports/{pk}/start", {"mask_class": "moth"}, content_type="application/json")
    assert begun.status_code in (200, 400, 422), begun.content[:300]
    if begun.status_code == 200:
        task(import_id=pk)
        found = imports.objects.get(pk=pk)
        assert found.state in ("done", "failed"), found.state
        assert found.state == "done" or found.message


@pytest.mark.parametrize("path", ["/api/nothing", "/help/" + "a" * 300, "/api/tiles/1/2", "/help/" + "b/" * 2500])
def test_no_address_is_answered_with_a_page_of_django_s(client: Client, path: str) -> None:
    answer = client.get(path)
    assert answer.status_code in (301, 302, 400, 404, 414)
    assert b"<!doctype" not in answer.content[:200].lower() or b"Varlen" in answer.content


def test_names_that_no_file_can_have_are_refused_in_a_sentence(client: Client, db: None) -> None:
    """Names over 255 bytes, paths over 4,096, too many files at once: a sentence, never a page of 500."""
    made = client.post("/api/imports", {"name": "x" * 60}, content_type="application/json").json()["id"]
    for name in ("n" * 300 + ".jpg", "/".join(["folder"] * 700) + "/a.jpg", "é" * 200 + ".jpg"):
        answer = client.post(f"/api/imports/{made}/files", {"file": [SimpleUploadedFile("a.jpg", b"x")], "path": [name]})
        assert answer.status_code in (200, 400, 422), name[:20]
        assert answer["Content-Type"].startswith("application/json")
    many = {"file": [SimpleUploadedFile(f"{number}.jpg", b"x") for number in range(1200)]}
    answer = client.post(f"/api/imports/{made}/files", many)
    assert answer.status_code == 400
    assert "too many files for one request" in answer.json()["message"]
    for wish in ({"name": "a", "folder": "/" + "f" * 5000}, {"name": "a", "folder": "/etc/passwd/below"}):
        assert client.post("/api/imports", wish, content_type="application/json").status_code in (400, 422)
