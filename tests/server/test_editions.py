"""An edition looked at: its images, its files, making one again, scores, trials, and the download that continues."""

from __future__ import annotations

import io
import json
import random
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from django.db.models import QuerySet
from django.test import Client
from varlen.datasets.image_files import decode, encode
from varlen.editions.rows import read_rows
from varlen.pipeline.document import from_json
from varlen.render.renderer import Renderer
from varlen_server.datasets.services import load
from varlen_server.editions.models import Edition
from varlen_server.editions.recovery import adopt_folders
from varlen_server.editions.tasks import check_edition, make_edition
from varlen_server.previews import preview

pytestmark = pytest.mark.django_db(transaction=True)


def post(client: Client, path: str, body: dict[str, Any]) -> Any:
    return client.post(path, body, content_type="application/json")


@pytest.fixture
def edition(client: Client, moths: Any, lamp_drift: dict[str, Any]) -> Edition:
    order = {"name": "Trial", "dataset": moths.pk, "document": lamp_drift, "variants": 2}
    pk = post(client, "/api/editions", order).json()["id"]
    make_edition(edition_id=pk)
    return Edition.objects.get(pk=pk)


def page(client: Client, edition: Edition, **wish: Any) -> dict[str, Any]:
    found: dict[str, Any] = client.get(f"/api/editions/{edition.pk}/images", wish).json()
    return found


def test_its_images_by_what_happened_to_them(client: Client, edition: Edition) -> None:
    rows = list(read_rows(edition.folder))
    assert page(client, edition)["total"] == len(rows) == 20

    def happened(row: dict[str, Any], step: str) -> bool:
        return any(each["id"] == step and each["fired"] for each in row["trace"]["steps"])

    for step in ("mirror", "tilt", "four"):
        assert page(client, edition, step=step)["total"] == sum(happened(row, step) for row in rows)
    for name in ("ash veil", "copper hook"):
        found = page(client, edition, **{"class": name}, split="train", count=200)
        assert [row["row"] for row in found["rows"]] == [row["row"] for row in rows if row["split"] == "train" and name in row["classes"]]
    lost = page(client, edition, lost="1")
    assert lost["total"] == sum(bool(row["trace"]["objects"]["dropped"]) for row in rows)
    source = rows[0]["source"]
    assert [row["variant"] for row in page(client, edition, source=source)["rows"]] == [0, 1, 2]
    assert page(client, edition, variant="2")["total"] == sum(row["variant"] == 2 for row in rows)
    for nothing in ({"split": "elsewhere"}, {"step": "none"}, {"class": "none"}, {"variant": "x"}, {"variant": "-1"}, {"source": "none"}):
        assert page(client, edition, **nothing)["total"] == 0


def test_one_image_with_its_labels_and_its_picture(client: Client, edition: Edition) -> None:
    written = json.loads((edition.folder / "annotations" / "train.json").read_text())
    for row in page(client, edition, split="train", count=200)["rows"]:
        name = row["file"].rpartition("/")[2]
        image = next(each["id"] for each in written["images"] if each["file_name"] == name)
        boxes = [each["bbox"] for each in written["annotations"] if each["image_id"] == image]
        shown = [[b[0], b[1], b[2] - b[0], b[3] - b[1]] for b in (each["box"] for each in row["objects"])]
        assert len(boxes) == len(shown)
        assert all(abs(a - b) < 0.02 for one, other in zip(boxes, shown, strict=True) for a, b in zip(one, other, strict=True))
    assert client.get(f"{row['address']}/320.jpg").headers["Content-Type"] == "image/jpeg"
    assert client.get(f"/api/editions/{edition.pk}/images/{row['row']}").json() == row
    assert client.get(f"/api/editions/{edition.pk}/images/999").status_code == 404
    assert client.get(f"/api/editions/{edition.pk}/pictures/0/{'0' * 64}/320.jpg").status_code == 404


def test_a_picture_is_what_lies_in_the_folder_and_of_a_shard_it_is_made_again(
    client: Client, edition: Edition, moths: Any, lamp_drift: dict[str, Any]
) -> None:
    row = page(client, edition)["rows"][0]
    shape = decode((edition.folder / row["file"]).read_bytes(), "row").shape
    (edition.folder / row["file"]).write_bytes(encode(np.full(shape, 9, np.uint8), "png"))
    shown = decode(client.get(f"{row['address']}/320.jpg").content, "shown")
    assert np.abs(shown.astype(int) - 9).max() <= 1
    order = {"name": "Shards", "dataset": moths.pk, "document": lamp_drift, "variants": 1, "format": "tar", "image": "png"}
    shards = Edition.objects.get(pk=post(client, "/api/editions", order).json()["id"])
    make_edition(edition_id=shards.pk)
    row = page(client, shards, split="train")["rows"][1]
    assert not (shards.folder / row["file"]).is_file()
    pixels = load(moths.pk, moths.digest)
    again = Renderer(pixels, from_json(lamp_drift)).render(row["source"], row["variant"])[0].pixels
    assert client.get(f"{row['address']}/480.jpg").content == preview(again, 480)
    Edition.objects.filter(pk=shards.pk).update(dataset_digest="sha256:other")
    answer = client.get(f"{row['address']}/640.jpg")
    assert (answer.status_code, "inside a shard" in answer.json()["message"]) == (404, True)


def test_every_image_is_made_again_and_damage_is_found(client: Client, edition: Edition) -> None:
    for row in range(20):
        assert post(client, f"/api/editions/{edition.pk}/images/{row}/recreate", {}).json() == {"identical": True, "differences": []}
    check_edition(edition_id=edition.pk)
    found = client.get(f"/api/editions/{edition.pk}").json()["check_state"]
    assert (found["state"], found["problems"]) == ("checked", [])
    victim = next((edition.folder / "images" / "train").iterdir())
    data = bytearray(victim.read_bytes())
    data[len(data) // 2] ^= 1
    victim.write_bytes(data)
    post(client, f"/api/editions/{edition.pk}/check", {})
    check_edition(edition_id=edition.pk)
    found = client.get(f"/api/editions/{edition.pk}").json()["check_state"]
    assert found["problems"] == [f"images/train/{victim.name}: changed since it was written"]


@pytest.mark.parametrize("often", [-1.0, 1000.0])
def test_a_check_says_how_far_it_is_now_and_then(edition: Edition, monkeypatch: pytest.MonkeyPatch, often: float) -> None:
    said: list[Any] = []
    write = QuerySet.update

    def update(rows: QuerySet[Any], **values: Any) -> int:
        said.append((values["check_state"]["state"], values["check_state"]["done"]))
        return write(rows, **values)

    monkeypatch.setattr("varlen_server.job_progress.OFTEN", often)
    monkeypatch.setattr(QuerySet, "update", update)
    check_edition(edition_id=edition.pk)
    files = said[-1][1]
    assert files >= 20
    assert said[:-1] == [("checking", done) for done in range(1, files + 1 if often < 0 else 2)]
    assert said[-1] == ("checked", files)
    check_edition(edition_id=edition.pk + 1000)  # one that is gone
    assert said[-1] == ("checked", files)


def test_a_download_that_broke_goes_on(client: Client, edition: Edition) -> None:
    address, chance = f"/api/editions/{edition.pk}/download", random.Random(3)
    whole = client.get(address)
    data = b"".join(whole.streaming_content)  # type: ignore[attr-defined]
    assert len(data) == int(whole.headers["Content-Length"])
    archive = zipfile.ZipFile(io.BytesIO(data))
    assert archive.testzip() is None
    assert sorted(archive.namelist()) == sorted(path.relative_to(edition.folder).as_posix() for path in edition.folder.rglob("*") if path.is_file())
    at, parts = 0, []
    while at < len(data):
        end = min(len(data), at + chance.randrange(1, len(data) // 5))
        part = client.get(address, headers={"Range": f"bytes={at}-{end - 1}", "If-Range": whole.headers["ETag"]})
        assert (part.status_code, part.headers["Content-Range"]) == (206, f"bytes {at}-{end - 1}/{len(data)}")
        parts.append(b"".join(part.streaming_content))  # type: ignore[attr-defined]
        at = end
    assert b"".join(parts) == data
    last = client.get(address, headers={"Range": "bytes=-100"})
    assert b"".join(last.streaming_content) == data[-100:]  # type: ignore[attr-defined]
    assert client.get(address, headers={"Range": f"bytes={len(data)}-"}).status_code == 416
    other = client.get(address, headers={"Range": "bytes=0-9", "If-Range": '"another"'})
    assert other.status_code == 200
    post(client, f"/api/editions/{edition.pk}/scores", {"scores": [{"name": "mAP", "value": 0.5}]})
    assert client.get(address).headers["ETag"] != whole.headers["ETag"]


def test_scores_and_trials(client: Client, edition: Edition, moths: Any, lamp_drift: dict[str, Any]) -> None:
    kept = post(client, "/api/pipelines", {"document": lamp_drift}).json()
    plain = post(client, "/api/pipelines", {"document": {**lamp_drift, "name": "As it came", "steps": []}}).json()
    scores = post(client, f"/api/editions/{edition.pk}/scores", {"text": "epoch,val/loss\n1,0.5\n2,0.4\n", "source": "log.csv"})
    assert scores.status_code == 201
    assert [(each["name"], each["split"], each["epoch"], each["value"]) for each in scores.json()] == [
        ("loss", "validation", 1.0, 0.5), ("loss", "validation", 2.0, 0.4),
    ]  # fmt: skip
    refused = post(client, f"/api/editions/{edition.pk}/scores", {"text": "what is this", "source": "log.csv"})
    assert refused.status_code == 422
    assert "log.csv" in refused.json()["message"]
    cells = {cell["pipeline"]: cell for cell in client.get("/api/trials").json()}
    ours = cells[kept["pipeline"]]
    assert (ours["edition"], ours["state"], [each["value"] for each in ours["scores"]]) == (edition.pk, "done", [0.4])
    assert cells[plain["pipeline"]]["edition"] is None
    started = post(client, "/api/trials", {"datasets": [moths.pk], "pipelines": [kept["pipeline"], plain["pipeline"]], "variants": 2}).json()
    assert started[0]["edition"] == edition.pk
    assert started[1]["state"] == "waiting"
    assert Edition.objects.count() == 2
    make_edition(edition_id=started[1]["edition"])
    found = client.get(f"/api/editions/{edition.pk}/compare/{started[1]['edition']}").json()
    assert found["dataset"]["same"]
    assert {change["kind"] for change in found["pipeline"]["changes"]} == {"pipeline", "removed"}
    # Nothing varies in the plain pipeline: each image is written once.
    assert found["counts"]["train"]["images"] == [18, 6]


def test_the_estimate_is_close_to_what_is_written(client: Client, moths: Any, lamp_drift: dict[str, Any], edition: Edition) -> None:
    for form, image in (("coco", "jpeg"), ("coco", "png"), ("npz", "jpeg")):
        wish = {
            "dataset": moths.pk,
            "document": lamp_drift,
            "variants": 2,
            "format": form,
            "image": image,
            "splits": ["train"],
            "accept_loss": ["all"],
        }
        found = post(client, "/api/editions/estimate", wish).json()
        assert found["counts"] == {"train": 18}
        pk = post(client, "/api/editions", {**wish, "name": "Sized"}).json()["id"]
        make_edition(edition_id=pk)
        made = Edition.objects.get(pk=pk)
        assert (made.state, made.done) == (Edition.State.DONE, 18)
        size = sum(path.stat().st_size for path in made.folder.rglob("*") if path.suffix in (".jpg", ".png", ".npz"))
        assert 0.5 < found["bytes"] / size < 2.0
        assert page(client, made, split="train")["total"] == 18
        row = page(client, made)["rows"][0]
        assert client.get(f"{row['address']}/160.jpg").status_code == 200


def test_an_edition_outlives_its_dataset_s_changes(client: Client, edition: Edition, survey_folder: Path) -> None:
    Edition.objects.filter(pk=edition.pk).update(dataset_digest="sha256:" + "1" * 64)
    found = page(client, edition)
    assert found["total"] == 20
    assert found["rows"][0]["objects"] == []
    refused = post(client, f"/api/editions/{edition.pk}/images/0/recreate", {})
    assert refused.status_code == 422
    assert "was changed since" in refused.json()["message"]
    assert client.get(f"/api/editions/{edition.pk}").json()["dataset_changed"]


def test_an_edition_is_removed_with_all_that_is_its_own(client: Client, edition: Edition) -> None:
    address = f"/api/editions/{edition.pk}"
    Edition.objects.filter(pk=edition.pk).update(state=Edition.State.WRITING)
    assert (client.delete(address).status_code, edition.folder.exists()) == (409, True)
    Edition.objects.filter(pk=edition.pk).update(state=Edition.State.DONE)
    assert client.delete(address).status_code == 204
    assert client.get(address).status_code == 404
    assert not list(edition.folder.parent.glob("*edition-*"))
    assert adopt_folders() == []
    assert client.get(address).status_code == 404
