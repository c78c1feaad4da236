"""The server through its API, on a real database."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path
from typing import Any

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from varlen.codec import decode
from varlen.export import Order, export
from varlen.formats import read_dataset
from varlen.pipeline import from_json

pytestmark = pytest.mark.django_db


def post(client: Client, path: str, body: dict[str, Any], **headers: Any) -> Any:
    return client.post(path, json.dumps(body), content_type="application/json", **headers)


def zipped(folder: Path, change: dict[str, bytes] | None = None) -> SimpleUploadedFile:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as archive:
        for path in sorted(folder.rglob("*.*")):
            name = path.relative_to(folder).as_posix()
            archive.writestr(name, (change or {}).get(name, path.read_bytes()))
    return SimpleUploadedFile("moths.zip", buffer.getvalue(), "application/zip")


def test_an_imported_dataset_is_the_dataset_on_disk(client: Client, moths: Any, survey_folder: Path) -> None:
    listed = client.get("/api/datasets").json()[0]
    assert listed["digest"] == read_dataset(survey_folder).digest()
    assert [(row["split"], row["images"]) for row in listed["splits"]] == [("train", 6), ("validation", 1), ("test", 1)]


def test_bringing_in_a_zip(client: Client, survey_folder: Path) -> None:
    answer = client.post("/api/datasets/upload", {"file": zipped(survey_folder)})
    assert answer.status_code == 201
    assert answer.json()["digest"] == read_dataset(survey_folder).digest()
    assert len(client.get(f"/api/datasets/{answer.json()['id']}/rows?count=4").json()) == 4


@pytest.mark.parametrize("broken", ["truncated picture", "missing picture", "unknown category", "not a zip"])
def test_a_broken_zip_leaves_nothing_behind(client: Client, survey_folder: Path, broken: str) -> None:
    picture = sorted((survey_folder / "images" / "test").iterdir())[0]
    name, labels = f"images/test/{picture.name}", json.loads((survey_folder / "annotations" / "test.json").read_text())
    if broken == "truncated picture":
        upload, says = zipped(survey_folder, {name: picture.read_bytes()[:9000]}), f"{name}: damaged picture"
    elif broken == "missing picture":
        labels["images"][0]["file_name"] = "gone.jpg"
        upload, says = zipped(survey_folder, {"annotations/test.json": json.dumps(labels).encode()}), "image gone.jpg is listed"
    elif broken == "unknown category":
        labels["annotations"][0]["category_id"] = 99
        upload, says = zipped(survey_folder, {"annotations/test.json": json.dumps(labels).encode()}), "category 99 does not exist"
    else:
        upload, says = SimpleUploadedFile("moths.zip", b"hello"), "neither a folder, a zip nor an annotation file"
    answer = client.post("/api/datasets/upload", {"file": upload})
    assert answer.status_code == 422
    assert says in answer.json()["message"]
    assert client.get("/api/datasets").json() == []


def test_a_tile_is_the_exported_picture(client: Client, moths: Any, lamp_drift: dict, survey_folder: Path, tmp_path: Path) -> None:
    """Labels, draws and pixel digest of every tile against the edition the terminal writes."""
    out = tmp_path / "edition"
    export(read_dataset(survey_folder), from_json(lamp_drift), out, Order(variants=2, image="png"))
    rows = {(row["source"], row["variant"]): row for row in map(json.loads, (out / "rows.jsonl").read_text().splitlines())}
    images = client.get(f"/api/datasets/{moths.pk}/rows?count=6").json()
    wish = {"dataset": moths.pk, "document": lamp_drift, "images": [image["id"] for image in images], "variants": 2}
    sheet = post(client, "/api/sheet", wish).json()
    keys = {image["id"]: image["key"] for image in images}
    checked = 0
    for row in sheet["rows"]:
        for tile in row["tiles"]:
            exported = rows[keys[row["image"]], tile["variant"]]
            trace = client.get(f"{tile['address']}/trace").json()
            assert trace["pixel_digest"] == exported["pixel_digest"]
            assert tile["trace"]["steps"] == exported["trace"]["steps"]
            picture = client.get(f"{tile['address']}/640.jpg")
            assert "immutable" in picture["Cache-Control"]
            shown, written = decode(picture.content, "tile"), decode((out / exported["file"]).read_bytes(), "file")
            assert shown.shape == written.shape
            assert abs(shown.astype(int) - written).mean() < 3  # only the preview's own coding differs
            checked += 1
    assert checked == 12


def test_a_tile_that_is_only_a_copy(client: Client, moths: Any) -> None:
    """A flip alone resamples nothing; its preview is made from a view of the source."""
    document = {"varlen_pipeline": 1, "steps": [{"step": "flip", "probability": 1}]}
    image = client.get(f"/api/datasets/{moths.pk}/rows?count=1").json()[0]
    sheet = post(client, "/api/sheet", {"dataset": moths.pk, "document": document, "images": [image["id"]], "variants": 1}).json()
    shown = decode(client.get(f"{sheet['rows'][0]['tiles'][0]['address']}/480.jpg").content, "tile")
    source = decode(client.get(f"/api/pictures/{image['sha256']}/480.jpg").content, "source")
    assert abs(shown.astype(int) - source[:, ::-1]).mean() < 2


def test_the_same_edition_from_the_queue_and_from_the_terminal(
    client: Client, moths: Any, lamp_drift: dict, survey_folder: Path, tmp_path: Path, transactional_db: None
) -> None:
    from asgiref.sync import async_to_sync
    from procrastinate.contrib.django import app

    order = {"name": "Trial", "dataset": moths.pk, "document": lamp_drift, "variants": 2, "originals": True, "image": "webp", "quality": 80}
    answer = post(client, "/api/editions", order)
    assert answer.status_code == 201
    assert (answer.json()["state"], answer.json()["total"]) == ("waiting", 20)
    worker = app.with_connector(app.connector.get_worker_connector())

    async def work() -> None:
        async with worker.open_async():
            await worker.run_worker_async(wait=False, install_signal_handlers=False, listen_notify=False)

    async_to_sync(work)()
    made = client.get(f"/api/editions/{answer.json()['id']}").json()
    assert (made["state"], made["done"]) == ("done", 20), made["message"]
    terminal = export(read_dataset(survey_folder), from_json(lamp_drift), tmp_path / "same", Order(variants=2, image="webp", quality=80))
    assert made["output_digest"] == terminal["output_digest"]
    download = b"".join(client.get(f"/api/editions/{made['id']}/download").streaming_content)
    with zipfile.ZipFile(io.BytesIO(download)) as archive:
        assert archive.testzip() is None
        assert archive.read("annotations/train.json") == (tmp_path / "same" / "annotations" / "train.json").read_bytes()


def test_the_ledger_counts_what_will_come_out(client: Client, moths: Any, lamp_drift: dict) -> None:
    wish = {"dataset": moths.pk, "document": lamp_drift, "variants": 5, "originals": False}
    ledger = post(client, "/api/ledger", wish).json()
    assert ledger["counts"] == {"train": 30, "validation": 1, "test": 1}
    assert ledger["total"] == 32
    assert ledger["kept"] + ledger["clipped"] + ledger["dropped"] > 100
    assert sum(blame["count"] for blame in ledger["blame"]) == ledger["dropped"]


def test_revisions_are_never_overwritten(client: Client, lamp_drift: dict) -> None:
    first = post(client, "/api/pipelines", {"document": lamp_drift}).json()
    address = f"/api/pipelines/{first['pipeline']}"
    mine = post(client, address, {"document": {**lamp_drift, "seed": 21}, "base": 1})
    assert mine.json()["number"] == 2
    theirs = post(client, address, {"document": {**lamp_drift, "seed": 22}, "base": 1})
    assert theirs.status_code == 409
    assert "it is at revision 2, this window has 1" in theirs.json()["message"]
    assert client.get(address).json()["document"]["seed"] == 21


def test_all_problems_of_a_pipeline_reach_the_screen(client: Client, moths: Any) -> None:
    document = {"varlen_pipeline": 1, "steps": [{"step": "rotate", "degrees": 999}, {"step": "spin"}]}
    answer = post(client, "/api/sheet", {"dataset": moths.pk, "document": document, "images": [], "variants": 1})
    assert answer.status_code == 422
    assert answer.json()["problems"] == [
        "steps[0].degrees: 999 is outside -180 … 180 degrees",
        f"steps[1].step: there is no step 'spin'; known are {', '.join(step['step'] for step in client.get('/api/steps').json())}",
    ]


def test_a_step_that_can_t_be_carried_out_is_said_on_its_tile(client: Client, moths: Any) -> None:
    document = {"varlen_pipeline": 1, "steps": [{"id": "part", "step": "crop", "mode": "window", "left_px": 5000}]}
    image = client.get(f"/api/datasets/{moths.pk}/rows?count=1").json()[0]["id"]
    sheet = post(client, "/api/sheet", {"dataset": moths.pk, "document": document, "images": [image], "variants": 1}).json()
    assert sheet["rows"][0]["tiles"][0]["error"].startswith("step part: the window starts at (5000, 0) px, outside a picture of 960×720 px")


@pytest.mark.parametrize(
    "headers", [{"HTTP_ORIGIN": "http://elsewhere.example"}, {"HTTP_SEC_FETCH_SITE": "cross-site"}, {"HTTP_HOST": "elsewhere.example"}]
)
def test_other_sites_may_not_change_anything(client: Client, lamp_drift: dict, headers: dict) -> None:
    assert post(client, "/api/pipelines", {"document": lamp_drift}, **headers).status_code in (400, 403)
    assert client.get("/api/pipelines").json() == []


@pytest.mark.parametrize(
    ("path", "status"),
    [
        ("/api/pictures/none/320.jpg", 404),
        ("/api/datasets/9/rows", 404),
        ("/api/editions/9", 404),
        ("/api/editions/9/download", 404),
        ("/api/pipelines/9", 404),
    ],
)
def test_what_is_not_there_is_said_not_crashed_on(client: Client, path: str, status: int) -> None:
    answer = client.get(path)
    assert answer.status_code == status
    assert answer.json()["message"]


def test_a_waiting_edition_can_be_cancelled(client: Client, moths: Any, lamp_drift: dict) -> None:
    edition = post(client, "/api/editions", {"name": "Trial", "dataset": moths.pk, "document": lamp_drift}).json()
    assert client.post(f"/api/editions/{edition['id']}/cancel").json()["state"] == "cancelled"


def test_the_published_schema_is_the_one_the_screens_were_built_from(client: Client) -> None:
    committed = (Path(__file__).resolve().parents[2] / "server" / "schema.yaml").read_text()
    assert client.get("/api/schema").content.decode() == committed
