"""Matches and probes on the server: asked for, carried out in the background, cancelled, resumed, found again."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from django.test import Client
from varlen.datasets.image_files import decode, encode
from varlen_server.datasets.services import import_dataset
from varlen_server.evidence import tasks
from varlen_server.evidence.models import Inquiry

pytestmark = pytest.mark.django_db(transaction=True)
State = Inquiry.State


@pytest.fixture
def field(moths: Any, survey_folder: Path, tmp_path: Path) -> Any:
    """The survey's own pictures, much darker."""
    folder = tmp_path / "field"
    folder.mkdir()
    for path in sorted(survey_folder.rglob("*.jpg")):
        dark = 255 * (decode(path.read_bytes(), path.name) / 255.0) ** 2.2
        (folder / path.name).write_bytes(encode(dark.astype(np.uint8), "jpeg", 93))
    return import_dataset(folder, "Field")


@pytest.fixture(autouse=True)
def not_deferred(monkeypatch: pytest.MonkeyPatch) -> None:
    """Jobs are carried out by the tests themselves, in one process."""
    monkeypatch.setattr(tasks.carry_out, "defer", lambda **_: None)
    monkeypatch.setattr(tasks.os, "cpu_count", lambda: 1)


def post(client: Client, path: str, body: dict[str, Any]) -> Any:
    return client.post(path, json.dumps(body), content_type="application/json")


def test_a_match_is_asked_carried_out_and_its_steps_are_placed(client: Client, moths: Any, field: Any, lamp_drift: dict[str, Any],
                                                                  monkeypatch: pytest.MonkeyPatch) -> None:  # fmt: skip
    from varlen.evidence import match as core

    for name, count in (("TRIED", 12), ("TOLD", 24)):  # enough to see that it works
        monkeypatch.setattr(core, name, count)
    asked = post(client, "/api/matches", {"dataset": moths.pk, "field": field.pk, "document": lamp_drift})
    assert asked.status_code == 201
    assert asked.json()["state"] == "waiting"
    tasks.carry_out(asked.json()["id"])
    found = client.get(f"/api/inquiries/{asked.json()['id']}").json()
    assert (found["state"], found["message"]) == ("done", "")
    result = found["result"]
    assert result["auc_after"] < result["auc_before"]
    assert len(result["conditions"][0]["values"]["field"]) == 8
    assert {each["key"] for each in found["pictures"]} <= {f"{path}" for path in field.images.values_list("key", flat=True)}
    assert found["pictures"][0]["sha256"] in field.images.values_list("sha256", flat=True)
    steps = result["suggested"]["steps"]
    assert steps
    placed = post(client, "/api/matches/place", {"document": lamp_drift, "steps": steps[:1]}).json()["document"]
    names = [step["id"] for step in placed["steps"]]
    assert names.index(steps[0]["id"]) == names.index("fit") - 1
    again = post(client, "/api/matches/place", {"document": placed, "steps": steps[:1]}).json()["document"]
    assert f"{steps[0]['id']}-2" in [step["id"] for step in again["steps"]]


def test_a_set_is_not_matched_with_itself_nor_with_too_few(client: Client, moths: Any, survey_folder: Path, tmp_path: Path) -> None:
    assert post(client, "/api/matches", {"dataset": moths.pk, "field": moths.pk}).status_code == 422
    folder = tmp_path / "one"
    folder.mkdir()
    (folder / "a.jpg").write_bytes(next(iter(sorted(survey_folder.rglob("*.jpg")))).read_bytes())
    one = import_dataset(folder, "One")
    asked = post(client, "/api/matches", {"dataset": moths.pk, "field": one.pk}).json()
    tasks.carry_out(asked["id"])
    found = client.get(f"/api/inquiries/{asked['id']}").json()
    assert found["state"] == "stopped"
    assert "a match needs at least 5" in found["message"]


def test_a_probe_is_cancelled_goes_on_and_is_found_again(
    client: Client, moths: Any, lamp_drift: dict[str, Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    from varlen.evidence import probe as core

    monkeypatch.setattr(core, "STEPS", 4)
    asked = post(client, "/api/probes", {"dataset": moths.pk, "documents": [lamp_drift], "seeds": 1}).json()
    cancelled = client.post(f"/api/inquiries/{asked['id']}/cancel").json()
    assert cancelled["state"] == "cancelled"
    tasks.carry_out(asked["id"])  # a job that comes too late does nothing
    assert client.get(f"/api/inquiries/{asked['id']}").json()["state"] == "cancelled"
    assert client.post(f"/api/inquiries/{asked['id']}/resume").json()["state"] == "waiting"
    tasks.carry_out(asked["id"])
    found = client.get(f"/api/inquiries/{asked['id']}").json()
    assert (found["state"], found["message"]) == ("done", "")
    assert [row["pipeline"] for row in found["result"]["results"]] == ["none", "Lamp drift"]
    listed = client.get("/api/inquiries?kind=probe").json()
    assert [(each["id"], each["names"], each["state"]) for each in listed] == [(asked["id"], ["Lamp drift"], "done")]
    assert client.post(f"/api/inquiries/{asked['id']}/cancel").status_code == 409
    assert client.delete(f"/api/inquiries/{asked['id']}").status_code == 204
    assert client.get("/api/inquiries").json() == []


def test_a_changed_dataset_is_not_probed(client: Client, moths: Any, lamp_drift: dict[str, Any]) -> None:
    asked = post(client, "/api/probes", {"dataset": moths.pk, "documents": [lamp_drift]}).json()
    Inquiry.objects.filter(pk=asked["id"]).update(dataset_digest="sha256:other")
    tasks.carry_out(asked["id"])
    assert "was changed since this was asked" in client.get(f"/api/inquiries/{asked['id']}").json()["message"]
