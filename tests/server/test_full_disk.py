"""A full disk under the server: imports end as failed and say why, thumbnails are made all the same, a lost job is not waited for."""

from __future__ import annotations

import errno
import json
import os
from pathlib import Path
from typing import Any

import pytest
from django.db import OperationalError
from django.test import Client
from varlen_server.datasets import services
from varlen_server.datasets.models import Dataset, DatasetImport
from varlen_server.datasets.tasks import fail_lost_imports, import_dataset_task
from varlen_server.editions.models import Edition
from varlen_server.editions.tasks import make_edition

from tests.core.datasets.trees import write_tree


def full(*_: object, **__: object) -> None:
    raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), "/pictures/ab/abc")


def started(client: Client, folder: Path, settings: Any) -> int:
    settings.FOLDERS = [folder]
    write_tree(folder / "set", {f"{name}/{n}.jpg": (40, 30) for name in ("moth", "lamp") for n in range(5)})
    pk = client.post("/api/imports", {"folder": str(folder / "set")}, content_type="application/json").json()["id"]
    assert client.post(f"/api/imports/{pk}/start", {}, content_type="application/json").status_code == 200
    return int(pk)


@pytest.mark.django_db
@pytest.mark.parametrize("stage", ["the store", "the rows", "anything else"])
def test_an_import_ends_as_failed(client: Client, tmp_path: Path, settings: Any, monkeypatch: pytest.MonkeyPatch, stage: str) -> None:
    pk = started(client, tmp_path, settings)
    match stage:
        case "the store":
            monkeypatch.setattr("varlen_server.content_store.write_whole", full)
        case "the rows":
            monkeypatch.setattr(services, "digest_of", full)
        case _:
            monkeypatch.setattr(services, "digest_of", lambda dataset: 1 / 0)
    import_dataset_task(import_id=pk)
    found = client.get(f"/api/imports/{pk}").json()
    assert found["state"] == "failed"
    assert ("No space left" in found["message"]) is (stage != "anything else")
    assert Dataset.objects.count() == 0
    monkeypatch.undo()
    again = started(client, tmp_path, settings)
    import_dataset_task(import_id=again)
    assert DatasetImport.objects.get(pk=again).state == "done"


@pytest.mark.django_db
def test_an_import_whose_job_is_gone_is_not_read_for_ever(client: Client, tmp_path: Path, settings: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    """The database itself was full: the job could write nothing down, was tried again, and given up."""
    pk = started(client, tmp_path, settings)

    def away(*_: object) -> str:
        raise OperationalError("could not extend file: No space left on device")

    monkeypatch.setattr(services, "digest_of", away)
    with pytest.raises(OperationalError):
        import_dataset_task(import_id=pk)
    assert fail_lost_imports() == 0  # its job is still waiting
    from procrastinate.contrib.django import models as procrastinate

    monkeypatch.setattr(procrastinate.ProcrastinateJob, "objects", procrastinate.ProcrastinateJob.objects)
    DatasetImport.objects.filter(pk=pk).update(state="reading")
    other = DatasetImport.objects.create(name="lost", path=str(tmp_path), state="reading")
    assert fail_lost_imports() == 1
    other.refresh_from_db()
    assert (other.state, "import it again" in other.message) == ("failed", True)


@pytest.mark.django_db
def test_pictures_are_shown_all_the_same(client: Client, moths: Any, lamp_drift: dict[str, Any], monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("varlen.atomic_files.write_whole", full)
    image = moths.images.first()
    thumbnail = client.get(f"/api/pictures/{image.sha256}/320.jpg")
    assert (thumbnail.status_code, thumbnail.content[:2]) == (200, b"\xff\xd8")
    body = {"dataset": moths.pk, "document": lamp_drift, "images": [image.pk], "variants": 1, "width": 320}
    sheet = client.post("/api/sheet", json.dumps(body), content_type="application/json")
    assert sheet.status_code == 200, sheet.content[:300]
    assert sheet.json()["rows"][0]["tiles"][0]["picture"].startswith("data:image/jpeg")


@pytest.mark.django_db
def test_an_edition_stops_and_is_resumed(client: Client, moths: Any, lamp_drift: dict[str, Any], monkeypatch: pytest.MonkeyPatch) -> None:
    wish = {"name": "Night", "dataset": moths.pk, "document": lamp_drift, "variants": 1}
    pk = client.post("/api/editions", json.dumps(wish), content_type="application/json").json()["id"]
    monkeypatch.setattr("varlen.editions.export._assemble", full)
    make_edition(edition_id=pk)
    stopped = Edition.objects.get(pk=pk)
    assert (stopped.state, "disk is full" in stopped.message) == ("stopped", True)
    monkeypatch.undo()
    client.post(f"/api/editions/{pk}/resume", "{}", content_type="application/json")
    make_edition(edition_id=pk)
    assert Edition.objects.get(pk=pk).state == "done"
