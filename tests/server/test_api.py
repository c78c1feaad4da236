"""The server through its API, on a real database."""

from __future__ import annotations

import io
import json
import shutil
import zipfile
from base64 import b64decode
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from varlen.datasets.formats import read_dataset
from varlen.datasets.image_files import decode
from varlen.demo.variants import write_variant
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.pipeline.document import from_json
from varlen_server.datasets.models import Dataset, Image
from varlen_server.datasets.services import load
from varlen_server.datasets.tasks import examine_dataset, import_dataset_task

pytestmark = pytest.mark.django_db


def post(client: Client, path: str, body: dict[str, Any], **headers: Any) -> Any:
    return client.post(path, json.dumps(body), content_type="application/json", **headers)


def zipped(folder: Path) -> SimpleUploadedFile:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as archive:
        for path in sorted(folder.rglob("*.*")):
            name = path.relative_to(folder).as_posix()
            archive.writestr(name, path.read_bytes())
    return SimpleUploadedFile("moths.zip", buffer.getvalue(), "application/zip")


def test_an_imported_dataset_is_the_dataset_on_disk(client: Client, moths: Any, survey_folder: Path) -> None:
    listed = client.get("/api/datasets").json()[0]
    assert listed["digest"] == read_dataset(survey_folder).digest()
    assert [(row["split"], row["images"]) for row in listed["splits"]] == [("train", 6), ("validation", 1), ("test", 1)]


def gathered(client: Client, *uploads: SimpleUploadedFile, paths: list[str] | None = None) -> Any:
    """Upload files and see what is recognised."""
    dataset_import = post(client, "/api/imports", {"name": "moths"}).json()["id"]
    answer = client.post(f"/api/imports/{dataset_import}/files", {"file": list(uploads), **({"path": paths} if paths else {})})
    return post(client, f"/api/imports/{dataset_import}/recognise", {}) if answer.status_code == 200 else answer


def bring(client: Client, upload: SimpleUploadedFile, **choices: Any) -> dict[str, Any]:
    """Upload a dataset and bring it in as a worker would; returns its intake."""
    dataset_import = gathered(client, upload).json()["id"]
    assert post(client, f"/api/imports/{dataset_import}/start", choices).status_code == 200
    import_dataset_task(dataset_import)
    found: dict[str, Any] = client.get(f"/api/imports/{dataset_import}").json()
    if found["dataset"]:
        examine_dataset(found["dataset"])
    return found


def dataset_of(client: Client, pk: int) -> Any:
    return next(each for each in client.get("/api/datasets").json() if each["id"] == pk)


def test_bringing_in_a_zip(client: Client, survey_folder: Path, settings: Any) -> None:
    dataset_import = bring(client, zipped(survey_folder))
    assert dataset_import["state"] == "done"
    assert dataset_import["recognised"]["splits"] == {"train": 6, "validation": 1, "test": 1}
    assert dataset_of(client, dataset_import["dataset"])["digest"] == read_dataset(survey_folder).digest()
    assert len(client.get(f"/api/datasets/{dataset_import['dataset']}/rows?count=4").json()) == 4
    assert list(settings.UPLOADS.iterdir()) == []


def test_bringing_in_a_set_of_files_and_a_folder(client: Client, survey_folder: Path, tmp_path: Path, settings: Any) -> None:
    """The same dataset in three ways has one digest; only allowed folders can be named, and no file leads out of its own."""
    digest = read_dataset(survey_folder).digest()
    files = [path for path in sorted(survey_folder.rglob("*.*")) if path.is_file()]
    uploads = [SimpleUploadedFile(path.name, path.read_bytes()) for path in files]
    dataset_import = gathered(client, *uploads, paths=[f"moths/{path.relative_to(survey_folder)}" for path in files]).json()
    post(client, f"/api/imports/{dataset_import['id']}/start", {})
    import_dataset_task(dataset_import["id"])
    assert dataset_of(client, client.get(f"/api/imports/{dataset_import['id']}").json()["dataset"])["digest"] == digest

    settings.FOLDERS = [survey_folder.parent]
    listed = client.get(f"/api/folders?path={survey_folder.parent}").json()["folders"]
    assert [(each["name"], each["dataset"]) for each in listed] == [("moths", True)]
    dataset_import = post(client, "/api/imports", {"folder": str(survey_folder)}).json()
    assert dataset_import["name"] == "moths"
    assert client.get(f"/api/imports/{dataset_import['id']}/example.jpg").status_code == 200
    post(client, f"/api/imports/{dataset_import['id']}/start", {"name": "From its folder"})
    import_dataset_task(dataset_import["id"])
    assert dataset_of(client, client.get(f"/api/imports/{dataset_import['id']}").json()["dataset"])["digest"] == digest
    assert (survey_folder / "annotations").exists()

    for folder in ("/etc", f"{survey_folder.parent}/../..", "~root/.."):
        answer = post(client, "/api/imports", {"folder": folder})
        assert answer.status_code == 422
        assert "not below" in answer.json()["message"]
    for path in ("../../out.jpg", "/etc/out.jpg"):
        answer = gathered(client, SimpleUploadedFile("a.jpg", b"x"), paths=[path])
        assert answer.status_code == 400
        assert "leads out" in answer.json()["message"]


def test_choices_are_kept_to(client: Client, survey_folder: Path) -> None:
    """Splits drawn anew, a class renamed, one merged into another, one left out."""
    names = ["ash veil", "copper hook", "lantern mote", "reed sailer", "dusk marble"]
    classes = [[names[4], "dusk"], [names[0], "ash"], [names[1], "ash"], [names[2], ""], [names[3], names[3]]]
    dataset_import = bring(client, zipped(survey_folder), splits="drawn", shares=[0.25, 0.25], classes=classes)
    found = client.get(f"/api/datasets/{dataset_import['dataset']}/overview").json()
    source = read_dataset(survey_folder)
    counts = {name: sum(int((entry.objects.classes == place).sum()) for entry in source.entries.values()) for place, name in enumerate(names)}
    assert [(each["name"], each["total"]) for each in found["classes"]] == [
        ("dusk", counts[names[4]]), ("ash", counts[names[0]] + counts[names[1]]), (names[3], counts[names[3]])]  # fmt: skip
    assert sum(split["images"] for split in found["dataset"]["splits"]) == 8
    dataset_import = gathered(client, zipped(survey_folder)).json()
    assert "missing from the list" in post(client, f"/api/imports/{dataset_import['id']}/start", {"classes": classes[:2]}).json()["message"]


def test_a_cancelled_or_broken_import_leaves_nothing_behind(client: Client, survey_folder: Path, settings: Any, monkeypatch: Any) -> None:
    import varlen_server.datasets.tasks as tasks

    dataset_import = gathered(client, zipped(survey_folder)).json()["id"]
    assert client.delete(f"/api/imports/{dataset_import}").json()["state"] == "cancelled"
    assert list(settings.UPLOADS.iterdir()) == []

    dataset_import = gathered(client, zipped(survey_folder)).json()["id"]
    post(client, f"/api/imports/{dataset_import}/start", {})
    real = tasks.import_dataset

    def cancelled_on_the_way(path: Path, name: str, choices: Any, source: str, progress: Any, begun: Any, made_by: str) -> Any:
        def stopping(done: int) -> None:
            client.delete(f"/api/imports/{dataset_import}")
            progress(done)

        return real(path, name, choices, source, stopping, begun, made_by)

    monkeypatch.setattr(tasks, "import_dataset", cancelled_on_the_way)
    import_dataset_task(dataset_import)
    assert client.get(f"/api/imports/{dataset_import}").json()["state"] == "cancelled"
    assert not Dataset.objects.exists()
    assert not Image.objects.exists()


def test_what_can_t_be_read_at_all_leaves_nothing_behind(client: Client) -> None:
    unreadable = io.BytesIO()
    with zipfile.ZipFile(unreadable, "w") as archive:
        archive.writestr("annotations/train.json", json.dumps({"images": [{"id": 1, "file_name": "gone.jpg", "width": 4, "height": 4}],
                                                               "annotations": [], "categories": [{"id": 1, "name": "moth"}]}))  # fmt: skip
    for upload, says in (
        (SimpleUploadedFile("moths.zip", b"hello"), "neither a folder, a zip, a tar, a picture nor a file of labels"),
        (SimpleUploadedFile("moths.zip", unreadable.getvalue()), "image gone.jpg is listed"),
    ):
        answer = gathered(client, upload)
        assert answer.status_code == 422
        assert says in answer.json()["message"]
    assert client.get("/api/datasets").json() == []


def test_one_bad_file_keeps_no_others_away(client: Client, flawed_folder: Path) -> None:
    """What can't be rendered stays out and is named; everything else is there, in order of its faults."""
    pk = bring(client, zipped(flawed_folder))["dataset"]
    found = client.get(f"/api/datasets/{pk}/findings").json()["findings"]
    counts = {finding["kind"]: finding["count"] for finding in found}
    assert {"missing-file", "damaged-file", "unknown-class", "box-empty", "box-outside", "duplicate-across-splits"} <= set(counts)
    page = client.get(f"/api/datasets/{pk}/images?count=5").json()
    assert page["total"] == 14
    assert len(page["images"]) == 5
    assert not any("night_0004" in image["key"] for image in client.get(f"/api/datasets/{pk}/images?count=200").json()["images"])
    assert client.get(f"/api/datasets/{pk}/images?finding=box-empty").json()["images"][0]["key"] == "images/train/night_0002.jpg"
    moths = client.get(f"/api/datasets/{pk}/overview").json()
    wanted = moths["classes"][0]
    having = client.get(f"/api/datasets/{pk}/images?class={wanted['name']}&count=200").json()["images"]
    assert sum(thing["class"] == wanted["name"] for image in having for thing in image["objects_json"]) == wanted["total"]
    assert client.get(f"/api/datasets/{pk}/images?split=validation&name=again").json()["total"] == 1


def test_remedies_change_the_snapshot_and_are_taken_back_exactly(client: Client, flawed_folder: Path, lamp_drift: dict) -> None:
    pk = bring(client, zipped(flawed_folder))["dataset"]
    digests = [dataset_of(client, pk)["digest"]]
    for finding in ("box-empty", "box-outside", "duplicate-across-splits"):
        said = post(client, f"/api/datasets/{pk}/edits", {"finding": finding})
        assert said.status_code == 201
        digests.append(said.json()["digest"])
    assert len(set(digests)) == 4
    images = {image["key"]: image for image in client.get(f"/api/datasets/{pk}/images?count=200").json()["images"]}
    assert "images/validation/again.jpg" not in images
    first = images["images/train/night_0001.jpg"]
    assert all(thing["box"][0] >= 0 and thing["box"][2] <= first["width"] for thing in first["objects_json"])
    assert all(thing["box"][2] > thing["box"][0] for thing in images["images/train/night_0002.jpg"]["objects_json"])
    moved = post(client, f"/api/datasets/{pk}/edits", {"kind": "move", "image": "images/train/night_0005.jpg", "value": "test"}).json()
    assert client.get(f"/api/datasets/{pk}/images?split=test").json()["total"] == 2
    wish = {"dataset": pk, "document": lamp_drift, "images": [first["id"]], "variants": 1}
    assert post(client, "/api/sheet", wish).status_code == 200
    assert [edit["why"] for edit in moved["edits"]] == ["box-empty", "box-outside", "duplicate-across-splits", ""]
    for digest in reversed(digests):
        assert client.delete(f"/api/datasets/{pk}/edits").json()["digest"] == digest
    assert client.delete(f"/api/datasets/{pk}/edits").json()["edits"] == []
    refused = post(client, f"/api/datasets/{pk}/edits", {"kind": "move", "image": "images/train/night_0005.jpg", "value": "somewhere"})
    assert refused.status_code == 422


@pytest.mark.parametrize("form", ["yolo-keypoints", "mask-pairs", "class-folders"])
def test_other_formats_give_the_same_edition_on_the_server_and_in_the_terminal(
    client: Client, tmp_path: Path, survey_folder: Path, form: str
) -> None:
    """Mirror partners, label maps and image classes come through the database."""
    copied = tmp_path / "survey"
    shutil.copytree(survey_folder, copied)
    write_variant(copied, tmp_path / form, form)
    pk = bring(client, zipped(tmp_path / form))["dataset"]
    row = Dataset.objects.get(pk=pk)
    pipeline = from_json({"varlen_pipeline": 1, "seed": 3, "steps": [{"step": "flip", "probability": 1}, {"step": "rotate"}]})
    digests = [
        export(dataset, pipeline, tmp_path / f"out{n}", ExportSpec(variants=1, format=form))["output_digest"]
        for n, dataset in enumerate((read_dataset(tmp_path / form), load(pk, row.digest)))
    ]
    assert digests[0] == digests[1]


def test_a_tile_is_the_exported_picture(client: Client, moths: Any, lamp_drift: dict, survey_folder: Path, tmp_path: Path) -> None:
    """Labels, draws and pixel digest of every tile against the edition the terminal writes."""
    out = tmp_path / "edition"
    export(read_dataset(survey_folder), from_json(lamp_drift), out, ExportSpec(variants=2, image="png"))
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


def test_small_pictures_come_with_their_labels(client: Client, moths: Any, lamp_drift: dict) -> None:
    """The same bytes that the tiles' own addresses give; none where none are asked for."""
    image = client.get(f"/api/datasets/{moths.pk}/rows?count=1").json()[0]["id"]
    wish = {"dataset": moths.pk, "document": lamp_drift, "images": [image], "variants": 2}
    bare = post(client, "/api/sheet", wish).json()["rows"][0]["tiles"]
    tiles = post(client, "/api/sheet", {**wish, "width": 160}).json()["rows"][0]["tiles"]
    for tile in tiles:
        kind, _, data = tile["picture"].partition(",")
        assert kind == "data:image/jpeg;base64"
        assert b64decode(data) == client.get(f"{tile['address']}/160.jpg").content
    assert [{**tile, "picture": "", "picture_width": 0} for tile in tiles] == bare
    assert post(client, "/api/sheet", {**wish, "width": 161}).status_code == 400


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
    terminal = export(read_dataset(survey_folder), from_json(lamp_drift), tmp_path / "same", ExportSpec(variants=2, image="webp", quality=80))
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
    # The dialog says the same of the same order, and of another form of pictures something else.
    order = {**wish, "format": "coco", "image": "jpeg", "quality": 90}
    estimate = post(client, "/api/editions/estimate", order).json()
    assert (estimate["counts"], estimate["bytes"], estimate["seconds"]) == (ledger["counts"], ledger["bytes"], ledger["seconds"])
    assert post(client, "/api/editions/estimate", {**order, "image": "png"}).json()["bytes"] > 2 * ledger["bytes"]


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
    document = {"varlen_pipeline": 1, "steps": [{"step": "rotate", "degrees": [999, 999]}, {"step": "spin"}]}
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


def test_forecast_widest_range_notes_and_revisions(client: Client, moths: Any, lamp_drift: dict, survey_folder: Path) -> None:
    """The same numbers as in the terminal; revisions say what changed; the same question is answered from what was kept."""
    from varlen.forecasts.label_forecast import forecast

    wish = {"dataset": moths.pk, "document": lamp_drift, "draws": 60}
    answer = post(client, "/api/forecast", wish).json()
    expected = forecast(read_dataset(survey_folder), from_json(lamp_drift), 60)
    assert answer["objects"] == expected["objects"]
    assert {row["name"]: row["dropped"] for row in answer["steps"]} == {name: row["dropped"] for name, row in expected["steps"].items()}
    assert post(client, "/api/forecast", wish).json() == answer
    alone = {**lamp_drift, "steps": [step for step in lamp_drift["steps"] if step["id"] == "tilt"]}
    limit = {"dataset": moths.pk, "document": alone, "draws": 60, "parameter": "tilt.degrees", "lose_at_most": 0.05}
    found = post(client, "/api/forecast/limit", limit).json()
    assert found["ends"][0] == -found["ends"][1] < 0
    assert found["lost_share"] <= 0.05
    assert "not a range of the step" in post(client, "/api/forecast/limit", {**limit, "parameter": "tilt.frame"}).json()["message"]
    upended = {**lamp_drift, "steps": [{"step": "flip", "direction": "vertical"}]}
    assert [note["kind"] for note in post(client, "/api/advice", {"dataset": moths.pk, "document": upended}).json()] == ["vertical-flip"]

    first = post(client, "/api/pipelines", {"document": lamp_drift}).json()
    changed = {**lamp_drift, "seed": 21, "steps": lamp_drift["steps"][1:]}
    second = post(client, f"/api/pipelines/{first['pipeline']}", {"document": changed, "base": 1}).json()
    client.patch(f"/api/revisions/{second['id']}", json.dumps({"name": "no mirror"}), content_type="application/json")
    newest, oldest = client.get(f"/api/pipelines/{first['pipeline']}/revisions").json()
    assert newest["name"] == "no mirror"
    assert [(change["kind"], change["name"]) for change in newest["changes"]] == [("pipeline", "pipeline"), ("removed", "flip")]
    assert oldest["changes"] == []
    compared = post(client, "/api/compare", {"before": lamp_drift, "after": changed}).json()
    assert compared == newest["changes"]
    assert client.delete(f"/api/pipelines/{first['pipeline']}").status_code == 204


def test_the_wall_is_narrowed_by_every_plot(client: Client, moths: Any, survey_folder: Path) -> None:
    """Each bar's count is the number of objects, or of images, that the wall then shows."""
    found = client.get(f"/api/datasets/{moths.pk}/overview").json()

    def total(**asked: str) -> int:
        return int(client.get(f"/api/datasets/{moths.pk}/images", asked).json()["total"])

    dataset = read_dataset(survey_folder)
    entries = list(dataset.entries.values())
    for bar in found["sizes"]:
        assert total(size=bar["name"]) == bar["count"]
    for bar in found["kinds"]:
        assert total(kind=bar["name"]) == bar["count"]
    for bar in found["objects"]:
        assert total(objects=f"{bar['low']}-{bar['high']}") == bar["count"]
    assert (
        sum(bar["count"] for bar in found["sides"]) == sum(bar["count"] for bar in found["aspects"]) == sum(len(entry.objects) for entry in entries)
    )
    for bar in found["aspects"]:
        boxes = [entry.objects.boxes for entry in entries]
        ratios = [(each[:, 2] - each[:, 0]) / (each[:, 3] - each[:, 1]) for each in boxes]
        assert total(aspect=f"{bar['low']}-{bar['high']}") == sum(bool(((each >= bar["low"]) & (each < bar["high"])).any()) for each in ratios)
    for row in found["visibility"]:
        place = dataset.skeleton.names.index(row["name"])
        absent = [entry for entry in entries if (entry.objects.keypoints[:, place, 2] == 0).any()]
        assert total(keypoint=f"{row['name']}:absent") == len(absent)
        assert row["visible"] + row["hidden"] + row["absent"] == sum(len(entry.objects) for entry in entries)
    grid = found["boxes"]
    assert sum(map(sum, grid["counts"])) == sum(len(entry.objects) for entry in entries)
    pixels = np.concatenate([dataset.pixels(key).reshape(-1, 3) for key, entry in dataset.entries.items() if entry.split == "train"])
    assert np.allclose(found["mean"], pixels.mean(axis=0), atol=0.001)
    assert np.allclose(found["std"], pixels.std(axis=0), atol=0.001)
    assert [sum(counts) for counts in found["levels"]] == [len(pixels)] * 3
    facts = client.get(f"/api/images/{client.get(f'/api/datasets/{moths.pk}/images').json()['images'][0]['id']}").json()
    assert (facts["format"], facts["mode"], facts["bits"], facts["width"]) == ("JPEG", "RGB", 8, 960)
