"""Deleting a dataset, and cleaning up: what it breaks is said, what others need stays, nothing else goes."""

from __future__ import annotations

import os
import time
from pathlib import Path
from typing import Any

import pytest
from django.core.management import CommandError, call_command
from django.test import Client
from varlen_server.backups import backing_up
from varlen_server.datasets.models import Dataset, DatasetImport
from varlen_server.datasets.services import import_dataset
from varlen_server.editions.models import Edition
from varlen_server.editions.tasks import make_edition

from tests.server.test_api import post

pytestmark = pytest.mark.django_db


def pictures(settings: Any) -> set[str]:
    return {path.name for path in Path(settings.PICTURES).rglob("*") if path.is_file()}


@pytest.fixture
def kept_apart(settings: Any, tmp_path: Path) -> None:
    settings.STATE = tmp_path


def test_a_dataset_goes_with_what_it_alone_shows(client: Client, moths: Dataset, survey_folder: Path, settings: Any, kept_apart: None) -> None:
    """Of two with the same pictures, the first that is deleted frees nothing; the last frees all."""
    twin = import_dataset(survey_folder, "The same again")
    before = pictures(settings)
    assert client.get(f"/api/datasets/{twin.pk}").json()["pictures"] == 0
    assert client.delete(f"/api/datasets/{twin.pk}").json() == {"pictures": 0, "bytes": 0}
    assert pictures(settings) == before
    assert client.get(f"/api/datasets/{moths.pk}/rows").status_code == 200
    uses = client.get(f"/api/datasets/{moths.pk}").json()
    assert uses["pictures"] == len(before)
    freed = client.delete(f"/api/datasets/{moths.pk}").json()
    assert freed == {"pictures": len(before), "bytes": uses["bytes"]}
    assert pictures(settings) == set()
    assert client.get("/api/datasets").json() == []


def test_editions_are_named_before_and_stay(client: Client, moths: Dataset, lamp_drift: dict[str, Any], kept_apart: None) -> None:
    made = post(client, "/api/editions", {"name": "Night one", "dataset": moths.pk, "document": lamp_drift, "variants": 1}).json()
    busy = client.delete(f"/api/datasets/{moths.pk}?sure=true")
    assert busy.status_code == 409
    assert "in use: edition Night one" in busy.json()["message"]
    make_edition(edition_id=made["id"])
    refused = client.delete(f"/api/datasets/{moths.pk}")
    assert refused.status_code == 409
    assert "1 edition made from “Night moth survey” could no longer be recreated: Night one." in refused.json()["message"]
    assert Dataset.objects.filter(pk=moths.pk).exists()
    assert client.delete(f"/api/datasets/{moths.pk}?sure=true").status_code == 200
    edition = Edition.objects.get()
    assert (edition.state, edition.dataset, edition.dataset_name) == ("done", None, "Night moth survey")
    assert client.get(f"/api/editions/{edition.pk}/images").json()["total"] == edition.total
    assert client.get(f"/api/editions/{edition.pk}/download").status_code == 200


def test_nothing_is_deleted_during_a_backup(client: Client, moths: Dataset, settings: Any, kept_apart: None) -> None:
    with backing_up(settings.STATE):
        answer = client.delete(f"/api/datasets/{moths.pk}?sure=true")
    assert answer.status_code == 409
    assert "A backup is being made" in answer.json()["message"]
    assert Dataset.objects.filter(pk=moths.pk).exists()


def test_clean_says_what_would_go_and_takes_only_that(moths: Dataset, settings: Any, kept_apart: None, capsys: pytest.CaptureFixture[str]) -> None:
    shown = pictures(settings)
    old = time.time() - 7200
    waste = [
        Path(settings.PICTURES) / "ab" / ("ab" * 32),
        Path(settings.EDITIONS) / ".edition-77.varlen-part" / "x",
        Path(settings.UPLOADS) / "left" / "y",
    ]
    young = Path(settings.PICTURES) / "cd" / ("cd" * 32)
    for path in (*waste, young):
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(b"x" * 1000)
    for path in (waste[0], waste[2].parent):
        os.utime(path, (old, old))
    call_command("clean")
    said = capsys.readouterr().out
    assert "nothing was removed; --yes does" in said
    assert "pictures that no dataset shows" in said
    assert all(path.exists() for path in waste)
    DatasetImport.objects.create(state="reading")
    with pytest.raises(CommandError, match="being imported"):
        call_command("clean", "--yes")
    DatasetImport.objects.all().delete()
    call_command("clean", "--yes")
    assert not any(path.exists() for path in waste)
    assert pictures(settings) == shown | {young.name}
