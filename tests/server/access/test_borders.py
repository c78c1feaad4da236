"""What comes in from elsewhere is kept within its borders: other sites, headers, enormous bodies, limits, named places and stores."""

from __future__ import annotations

import html
from pathlib import Path
from typing import Any

import pytest
from django.test import Client
from varlen.editions.verify import verify
from varlen.stores import Store
from varlen_server.datasets.models import Dataset
from varlen_server.datasets.tasks import import_dataset_task
from varlen_server.editions.tasks import copy_edition, make_edition
from varlen_server.people.models import LogEntry

from tests.conftest import send_folder

pytestmark = pytest.mark.django_db


def test_another_site_is_refused(visitors: dict[str, Client]) -> None:
    """Pages elsewhere, siblings under the same name, names pointed at this machine, cookies without a page."""
    admin = visitors["admin"]
    for more in ({"HTTP_ORIGIN": "https://moths.example"}, {"HTTP_ORIGIN": "null"}, {"HTTP_SEC_FETCH_SITE": "cross-site"},
                 {"HTTP_SEC_FETCH_SITE": "same-site"}):  # fmt: skip
        assert admin.post("/api/tokens", {"name": "x", "scope": "write"}, content_type="application/json", **more).status_code == 403, more
    bare = Client()
    bare.cookies = admin.cookies
    assert bare.post("/api/tokens", {"name": "x", "scope": "write"}, content_type="application/json").status_code == 403
    own_page = {"HTTP_SEC_FETCH_SITE": "same-origin"}
    assert bare.post("/api/tokens", {"name": "x", "scope": "write"}, content_type="application/json", **own_page).status_code == 201
    assert admin.get("/api/datasets", HTTP_HOST="rebound.example").status_code == 400
    assert admin.get("/", HTTP_HOST="rebound.example").status_code == 400


def test_pages_and_answers_bear_their_headers(visitors: dict[str, Client], settings: Any) -> None:
    admin = visitors["admin"]
    for address in ("/", "/api/datasets", "/api/none", "/nowhere", "/healthz"):
        answer = admin.get(address)
        policy = answer["Content-Security-Policy"]
        assert "default-src 'none'" in policy
        assert "frame-ancestors 'none'" in policy
        assert "unsafe-inline" not in policy.split("script-src")[-1].split(";")[0]
        assert answer["X-Content-Type-Options"] == "nosniff"
        assert answer["X-Frame-Options"] == "DENY"
        assert answer["Referrer-Policy"] == "same-origin"
        assert "camera=()" in answer["Permissions-Policy"]
        assert answer["X-Request-Id"]
        assert "public" not in answer.get("Cache-Control", "")
    assert admin.get("/", HTTP_X_REQUEST_ID="given-by-a-proxy")["X-Request-Id"] == "given-by-a-proxy"
    assert admin.get("/", HTTP_X_REQUEST_ID="given\nby")["X-Request-Id"] != "given\nby"


def test_the_page_says_who_is_asking_and_nothing_else(visitors: dict[str, Client], moths: Any) -> None:
    """A token for scores, above all, reads no dataset with the page."""
    for name, said in (("nobody", '"role": ""'), ("viewer", '"role": "viewer"'), ("scores", '"role": "editor"')):
        page = html.unescape(visitors[name].get("/").content.decode())
        assert said in page, name
        assert "Night moth survey" not in page


def test_enormous_bodies_are_refused_unread(visitors: dict[str, Client]) -> None:
    for client in (visitors["nobody"], visitors["editor"]):
        answer = client.generic("POST", "/api/sheet", b"", content_type="application/json", CONTENT_LENGTH=str(9 << 20))
        assert answer.status_code == 413
        answer = client.generic("POST", "/api/imports/1/files", b"", content_type="multipart/form-data; boundary=x", CONTENT_LENGTH=str(5 << 30))
        assert answer.status_code == 413


def test_expensive_things_are_limited_by_person(visitors: dict[str, Client], monkeypatch: pytest.MonkeyPatch) -> None:
    from varlen_server.people.permissions import VisitorThrottle

    monkeypatch.setattr(VisitorThrottle, "THROTTLE_RATES", {"order": "3/min", "sign-in": "30/min", "count": "2/min", "render": "2/min"})
    worker, admin = visitors["editor"], visitors["admin"]
    found = [worker.post("/api/editions", {}, content_type="application/json").status_code for _ in range(5)]
    assert found == [400, 400, 400, 429, 429]
    assert admin.post("/api/editions", {}, content_type="application/json").status_code == 400


def test_health_and_metrics(visitors: dict[str, Client]) -> None:
    answer = visitors["nobody"].get("/healthz")
    assert (answer.status_code, answer.json()) == (503, {"database": True, "worker": False})
    visitors["read"].get("/api/datasets")
    text = visitors["read"].get("/metrics").content.decode()
    assert 'varlen_requests_total{method="GET",route="api/datasets",status="200"}' in text
    assert text.rstrip().endswith("# EOF")
    assert visitors["scores"].get("/metrics").status_code == 401


def test_only_named_places_are_imported_from(visitors: dict[str, Client], settings: Any, tmp_path: Path, survey_folder: Path) -> None:
    """Other folders, what links lead to, hidden names, and addresses of other machines or of this one are refused in one line."""
    inside, outside = tmp_path / "sets", tmp_path / "outside"
    for folder in (inside / ".hidden" / "moths", outside):
        folder.mkdir(parents=True)
    (inside / "link").symlink_to(outside)
    (inside / "moths").symlink_to(survey_folder)
    settings.FOLDERS, settings.STORES = [inside], ["s3://moths/shared"]
    worker = visitors["editor"]
    for place in (outside, inside / ".." / "outside", inside / "link", inside / ".hidden" / "moths", inside / "moths", "/etc", "~", "s3://others/x",
                  "s3://moths/shared-not", "s3://moths/shared/../private", "http://127.0.0.1:9/x", "http://169.254.169.254/latest/meta-data",
                  "file:///etc", "s3://key:secret@moths/shared"):  # fmt: skip
        answer = worker.post("/api/imports", {"folder": str(place)}, content_type="application/json")
        assert answer.status_code == 422, place
        assert len(answer.json()["problems"]) == 1
        assert worker.get("/api/folders", {"path": str(place)}).status_code in (404, 422), place
    assert [each["path"] for each in worker.get("/api/folders").json()["folders"]] == [str(inside), "s3://moths/shared"]


def test_an_edition_is_copied_to_a_store_that_was_named_and_nowhere_else(
    visitors: dict[str, Client], settings: Any, bucket: Store, moths: Any, tmp_path: Path
) -> None:
    settings.STORES, settings.EDITIONS = [f"{bucket.url}/shared"], tmp_path
    worker = visitors["editor"]
    document = {"varlen_pipeline": 1, "seed": 1, "steps": []}
    order = {"name": "To share", "dataset": moths.pk, "document": document, "variants": 0}
    made = worker.post("/api/editions", order, content_type="application/json").json()["id"]
    make_edition(edition_id=made)
    for place in (f"{bucket.url}/private", "s3://others/x", "http://169.254.169.254/latest", str(tmp_path / "here"), f"{bucket.url}/shared/../x"):
        answer = worker.post(f"/api/editions/{made}/copy", {"url": place}, content_type="application/json")
        assert answer.status_code == 422, place
    url = f"{bucket.url}/shared/edition"
    answer = worker.post(f"/api/editions/{made}/copy", {"url": url}, content_type="application/json")
    assert (answer.status_code, answer.json()["copy_state"]["state"]) == (200, "copying")
    copy_edition(edition_id=made, url=url)
    edition = worker.get(f"/api/editions/{made}").json()
    assert (edition["copy_state"]["state"], edition["copy_state"]["url"]) == ("copied", url)
    assert verify(url, record=edition["record_digest"]) == []  # type: ignore[arg-type]
    copy_edition(edition_id=made, url=url)
    assert "there is an edition here already" in worker.get(f"/api/editions/{made}").json()["copy_state"]["message"]
    assert LogEntry.objects.filter(what__contains=url).count() == 1


def test_a_dataset_is_imported_from_a_store_that_was_named(visitors: dict[str, Client], settings: Any, bucket: Store, survey_folder: Path) -> None:
    send_folder(bucket, survey_folder, "shared/survey")
    settings.STORES = [f"{bucket.url}/shared"]
    worker = visitors["editor"]
    found = worker.get("/api/folders", {"path": f"{bucket.url}/shared"}).json()
    assert [each["path"] for each in found["folders"]] == [f"{bucket.url}/shared/survey"]
    begun = worker.post("/api/imports", {"folder": f"{bucket.url}/shared/survey"}, content_type="application/json")
    assert begun.status_code == 201, begun.json()
    assert worker.get(f"/api/imports/{begun.json()['id']}/example.jpg").status_code == 200
    worker.post(f"/api/imports/{begun.json()['id']}/start", {}, content_type="application/json")
    import_dataset_task(import_id=begun.json()["id"])
    made = Dataset.objects.get(name="survey")
    assert (made.source, made.images.count(), made.made_by) == (f"{bucket.url}/shared/survey", 8, "editor")
