"""Who may ask what, on a Varlen that people sign in to."""

from __future__ import annotations

import json
import statistics
import time
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
import yaml
from django.conf import settings as django_settings
from django.contrib.auth.models import User
from django.core.cache import cache
from django.db import transaction
from django.test import Client
from django.utils import timezone
from varlen.editions.verify import verify
from varlen.stores import Store
from varlen_server.datasets.models import Dataset
from varlen_server.datasets.tasks import import_dataset_task
from varlen_server.editions.tasks import copy_edition, make_edition
from varlen_server.people import services
from varlen_server.people.models import Invitation, LogEntry, Member, Token
from varlen_server.people.roles import Role, Scope

from tests.conftest import send_folder

pytestmark = pytest.mark.django_db
SCHEMA = yaml.safe_load((Path(__file__).resolve().parents[2] / "server" / "schema.yaml").read_text())
PASSWORD = "lamp at the window"
#: Hashing as in earnest takes its time on purpose; the test of its timing asks for it.
QUICK = ["django.contrib.auth.hashers.MD5PasswordHasher"]

#: Written by hand. Who may, of: a person who looks, works, keeps; a token that reads, scores, works. `-` is nobody at all.
TABLE = """
-        GET     /api/session
-        POST    /api/session
-        POST    /api/invitations/accept
-        POST    /api/invitations/open
lwk r w  POST    /api/session/password
lwk r w  GET     /api/schema
lwk r w  POST    /api/advice
lwk r w  POST    /api/compare
lwk r w  GET     /api/datasets
lwk r w  GET     /api/datasets/{id}
  k      DELETE  /api/datasets/{id}
 wk   w  POST    /api/datasets/{id}/edits
 wk   w  DELETE  /api/datasets/{id}/edits
lwk r w  GET     /api/datasets/{id}/findings
lwk r w  GET     /api/datasets/{id}/images
 wk   w  PUT     /api/datasets/{id}/marks
lwk r w  GET     /api/datasets/{id}/overview
lwk r w  GET     /api/datasets/{id}/rows
lwk rsw  GET     /api/editions
 wk   w  POST    /api/editions
lwk rsw  GET     /api/editions/{id}
  k      DELETE  /api/editions/{id}
 wk   w  POST    /api/editions/{id}/cancel
 wk   w  POST    /api/editions/{id}/check
 wk   w  POST    /api/editions/{id}/copy
lwk r w  GET     /api/editions/{id}/compare/{other}
lwk r w  GET     /api/editions/{id}/download
lwk r w  GET     /api/editions/{id}/images
lwk r w  GET     /api/editions/{id}/images/{row}
lwk r w  POST    /api/editions/{id}/images/{row}/recreate
lwk r w  GET     /api/editions/{id}/pictures/{row}/{digest}/{width}.jpg
 wk   w  POST    /api/editions/{id}/resume
lwk rsw  GET     /api/editions/{id}/scores
 wk  sw  POST    /api/editions/{id}/scores
lwk r w  POST    /api/editions/estimate
 wk   w  GET     /api/folders
lwk r w  POST    /api/forecast
lwk r w  POST    /api/forecast/limit
lwk r w  GET     /api/formats
lwk r w  GET     /api/images/{id}
lwk r w  GET     /api/images/{id}/map.png
 wk   w  POST    /api/imports
lwk r w  GET     /api/imports/{id}
 wk   w  DELETE  /api/imports/{id}
lwk r w  GET     /api/imports/{id}/example.jpg
 wk   w  POST    /api/imports/{id}/files
 wk   w  POST    /api/imports/{id}/recognise
 wk   w  POST    /api/imports/{id}/start
lwk r w  GET     /api/inquiries
lwk r w  GET     /api/inquiries/{id}
  k      DELETE  /api/inquiries/{id}
 wk   w  POST    /api/inquiries/{id}/cancel
 wk   w  POST    /api/inquiries/{id}/resume
  k      GET     /api/invitations
  k      POST    /api/invitations
  k      DELETE  /api/invitations/{id}
lwk r w  POST    /api/ledger
  k      GET     /api/log
lwk r w  POST    /api/looks
 wk   w  POST    /api/matches
lwk r w  POST    /api/matches/place
  k      GET     /api/people
  k      PATCH   /api/people/{id}
lwk r w  GET     /api/pictures/{sha256}/{width}.jpg
lwk r w  GET     /api/pipelines
 wk   w  POST    /api/pipelines
lwk r w  GET     /api/pipelines/{id}
 wk   w  POST    /api/pipelines/{id}
  k      DELETE  /api/pipelines/{id}
lwk r w  GET     /api/pipelines/{id}/revisions
 wk   w  POST    /api/probes
 wk   w  PATCH   /api/revisions/{id}
lwk r w  POST    /api/sheet
lwk r w  GET     /api/starting-points
lwk r w  GET     /api/steps
lwk r w  GET     /api/tiles/{dataset}/{snapshot}/{pipeline}/{image}/{variant}/{width}.jpg
lwk r w  GET     /api/tiles/{dataset}/{snapshot}/{pipeline}/{image}/{variant}/map.png
lwk r w  GET     /api/tiles/{dataset}/{snapshot}/{pipeline}/{image}/{variant}/trace
  k      GET     /api/tokens
  k      POST    /api/tokens
  k      DELETE  /api/tokens/{id}
lwk r w  GET     /api/trials
 wk   w  POST    /api/trials
lwk r w  POST    /api/worst
lwk r w  GET     /metrics
lwk r w  DELETE  /api/session
""".strip("\n")
#: Column of the table, by visitor.
COLUMNS = {"look": 0, "work": 1, "keep": 2, "read": 4, "scores": 5, "token for work": 6}
EVERYBODY = (*COLUMNS, "nobody", "foreign token", "expired token", "revoked token", "token of one shut out")


@pytest.fixture(autouse=True)
def accounts(settings: Any) -> Iterator[None]:
    settings.SIGN_IN = settings.AXES_ENABLED = True
    settings.PASSWORD_HASHERS = QUICK
    cache.clear()
    yield
    cache.clear()


def person(name: str, role: str) -> User:
    user = User.objects.create_user(name, password=PASSWORD)
    Member.objects.create(user=user, role=role)
    return user


def signed_in(name: str, role: str) -> Client:
    client = Client(HTTP_ORIGIN="http://testserver", raise_request_exception=False)
    client.force_login(person(name, role), backend="django.contrib.auth.backends.ModelBackend")
    return client


def bearing(secret: str) -> Client:
    return Client(HTTP_AUTHORIZATION=f"Bearer {secret}", raise_request_exception=False)


@pytest.fixture
def visitors(db: None) -> dict[str, Client]:
    found = {role: signed_in(role, role) for role in ("look", "work", "keep")}
    keeper = User.objects.get(username="keep")
    for scope in Scope:
        found["token for work" if scope == "work" else scope] = bearing(services.new_token(keeper, f"for {scope}", scope, 30)[1])
    expired, secret = services.new_token(keeper, "old", Scope.WORK, 30)
    Token.objects.filter(pk=expired.pk).update(expires=timezone.now() - timedelta(seconds=1))
    revoked, other = services.new_token(keeper, "revoked", Scope.WORK, 30)
    services.revoke(revoked)
    gone = person("gone", "work")
    third = services.new_token(gone, "left behind", Scope.WORK, 30)[1]
    User.objects.filter(pk=gone.pk).update(is_active=False)
    found.update({"expired token": bearing(secret), "revoked token": bearing(other), "token of one shut out": bearing(third)})
    return {**found, "nobody": Client(HTTP_ORIGIN="http://testserver"), "foreign token": bearing("varlen_somebody-elses")}


def rows() -> list[tuple[str, str, str]]:
    return [(line[:7].ljust(7), *line[9:].split()) for line in TABLE.split("\n")]  # type: ignore[misc]


def test_the_table_is_whole() -> None:
    """Every endpoint of the schema stands in it, and nothing else."""
    there = {(method.upper(), path) for path, methods in SCHEMA["paths"].items() for method in methods}
    assert {(method, path) for _, method, path in rows()} == there | {("GET", "/api/schema"), ("GET", "/metrics")}


@pytest.mark.parametrize("visitor", EVERYBODY)
def test_every_endpoint_for_every_visitor(visitors: dict[str, Client], moths: Any, visitor: str) -> None:
    """Who may not is told so with 401 or 403, whatever is sent; who may gets any other answer."""
    client, wrong = visitors[visitor], []
    sample = {"id": moths.pk, "other": 2, "row": 1, "image": moths.images.first().pk, "variant": 1, "dataset": moths.pk, "width": 320}
    for who, method, path in rows():
        address = path
        for name in ("id", "other", "row", "image", "variant", "dataset", "width", "sha256", "digest", "snapshot", "pipeline"):
            address = address.replace(f"{{{name}}}", str(sample.get(name, "0" * 64)))
        with transaction.atomic():
            answer = client.generic(method, address, "{}", content_type="application/json")
            transaction.set_rollback(True)
        refused = answer.status_code in (401, 403)
        may = visitor in COLUMNS if who.startswith("-") else visitor in COLUMNS and who[COLUMNS[visitor]] != " "
        if who.startswith("-") and visitor == "nobody":
            may = True
        # Of a session that is begun with nothing, the refusal is about name and password.
        if refused == may or answer.status_code >= 500:
            wrong.append((method, address, answer.status_code, may))
        if refused and address not in ("/metrics", "/api/schema"):
            assert json.loads(answer.content)["message"]
    assert wrong == []


def test_a_token_is_never_more_than_its_owner(db: None) -> None:
    """A worker's token goes down with the worker's role, at once."""
    owner = person("luna", "work")
    client = bearing(services.new_token(owner, "loop", Scope.WORK, 30)[1])
    assert client.post("/api/imports", {}, content_type="application/json").status_code == 201
    Member.objects.filter(user=owner).update(role=Role.LOOK)
    assert client.post("/api/imports", {}, content_type="application/json").status_code == 403
    assert client.get("/api/datasets").status_code == 200


def test_secrets_are_kept_as_digests_and_shown_once(visitors: dict[str, Client]) -> None:
    keeper = visitors["keep"]
    made = keeper.post("/api/tokens", {"name": "training", "scope": "scores", "days": 3}, content_type="application/json")
    secret = made.json()["secret"]
    assert made.status_code == 201
    assert secret.startswith("varlen_")
    assert secret not in keeper.get("/api/tokens").content.decode()
    assert not [row for row in Token.objects.values() if secret in str(row)]
    invited = keeper.post("/api/invitations", {"role": "look"}, content_type="application/json").json()
    assert not [row for row in Invitation.objects.values() if invited["secret"] in str(row)]
    assert bearing(secret).get("/api/editions").status_code == 200
    assert keeper.get("/api/tokens").json()[0]["last_used"]
    assert keeper.delete(f"/api/tokens/{made.json()['id']}").json()["revoked"]
    answer = bearing(secret).get("/api/editions")
    assert answer.status_code == 401
    assert answer.json()["message"] == "This token was revoked."
    assert answer["WWW-Authenticate"] == "Bearer"


@pytest.mark.parametrize("name", ["token", "access_token", "Token", "api_key", "authorization", "password"])
def test_a_secret_in_an_address_is_refused(visitors: dict[str, Client], name: str) -> None:
    for client in (visitors["keep"], visitors["read"], visitors["nobody"]):
        answer = client.get(f"/api/datasets?{name}=varlen_abc")
        assert answer.status_code == 400
        assert "varlen_abc" not in answer.content.decode()


def test_the_first_account_an_invitation_and_its_reuse(db: None) -> None:
    """The link that is printed makes a keeper, once; another is made by that keeper, and each works once."""
    secret = services.first_link_secret()
    client = Client(HTTP_ORIGIN="http://testserver")
    old, secret = secret, services.first_link_secret()
    told = {"secret": old, "name": "luna", "password": PASSWORD}
    assert client.post("/api/invitations/accept", told, content_type="application/json").status_code == 400  # printed again since
    told["secret"] = secret
    assert client.post("/api/invitations/accept", {**told, "password": "moth"}, content_type="application/json").status_code == 400
    joined = client.post("/api/invitations/accept", told, content_type="application/json")
    assert (joined.status_code, joined.json()) == (201, {"sign_in": True, "name": "luna", "role": "keep"})
    again = Client(HTTP_ORIGIN="http://testserver").post("/api/invitations/accept", {**told, "name": "other"}, content_type="application/json")
    assert again.status_code == 400
    assert "was used" in again.json()["message"]
    assert services.first_link_secret() is None
    link = client.post("/api/invitations", {"role": "look"}, content_type="application/json").json()["secret"]
    second = Client(HTTP_ORIGIN="http://testserver")
    assert second.post("/api/invitations/open", {"secret": link}, content_type="application/json").json()["role"] == "look"
    same = {"secret": link, "name": "LUNA", "password": PASSWORD}
    assert second.post("/api/invitations/accept", same, content_type="application/json").json()["message"] == "This name is taken."
    assert second.post("/api/invitations/accept", {**same, "name": "ada"}, content_type="application/json").json()["role"] == "look"
    Invitation.objects.create(digest=services.digest_of("late"), role="keep", expires=timezone.now() - timedelta(seconds=1))
    assert second.post("/api/invitations/open", {"secret": "late"}, content_type="application/json").status_code == 400


def test_an_invitation_is_used_once_by_whoever_is_first(db: None) -> None:
    with transaction.atomic():
        _, secret = services.invite(Role.WORK, "luna")
    client = Client(HTTP_ORIGIN="http://testserver")
    outcomes = [client.post("/api/invitations/accept", {"secret": secret, "name": f"moth{n}", "password": PASSWORD}, content_type="application/json")
                .status_code for n in range(3)]  # fmt: skip
    assert outcomes == [201, 400, 400]


def test_the_session_begins_under_a_new_key(db: None) -> None:
    """A key that somebody planted in a browser beforehand is worth nothing after signing in."""
    person("luna", "work")
    client = Client(HTTP_ORIGIN="http://testserver")
    client.cookies[django_settings.SESSION_COOKIE_NAME] = "planted0planted0planted0planted0"
    answer = client.post("/api/session", {"name": "luna", "password": PASSWORD}, content_type="application/json")
    assert answer.status_code == 200
    cookie = answer.cookies[django_settings.SESSION_COOKIE_NAME]
    assert cookie.value != "planted0planted0planted0planted0"
    assert (cookie["httponly"], cookie["samesite"]) == (True, "Lax")
    planted = Client()
    planted.cookies[django_settings.SESSION_COOKIE_NAME] = "planted0planted0planted0planted0"
    assert planted.get("/api/datasets").status_code == 401
    kept = Client(HTTP_ORIGIN="http://testserver")
    kept.cookies[django_settings.SESSION_COOKIE_NAME] = cookie.value
    assert kept.get("/api/datasets").status_code == 200
    assert client.delete("/api/session").status_code == 200
    assert kept.get("/api/datasets").status_code == 401


def test_a_new_password_ends_other_sessions(db: None) -> None:
    here, there = signed_in("luna", "work"), Client(HTTP_ORIGIN="http://testserver")
    there.post("/api/session", {"name": "luna", "password": PASSWORD}, content_type="application/json")
    assert there.get("/api/datasets").status_code == 200
    changed = {"old": PASSWORD, "new": "another lamp, further off"}
    assert here.post("/api/session/password", {**changed, "old": "wrong"}, content_type="application/json").status_code == 400
    assert here.post("/api/session/password", changed, content_type="application/json").status_code == 204
    assert (here.get("/api/datasets").status_code, there.get("/api/datasets").status_code) == (200, 401)


def test_guessing_is_stopped(db: None) -> None:
    """Five wrong passwords, and even the right one waits; another person is not kept out."""
    person("luna", "work")
    person("ada", "work")
    client = Client(HTTP_ORIGIN="http://testserver")
    wrong = [client.post("/api/session", {"name": "luna", "password": f"guess {n}"}, content_type="application/json").status_code for n in range(6)]
    assert wrong == [401, 401, 401, 401, 429, 429]
    assert client.post("/api/session", {"name": "luna", "password": PASSWORD}, content_type="application/json").status_code == 429
    assert client.post("/api/session", {"name": "ada", "password": PASSWORD}, content_type="application/json").status_code == 200
    assert LogEntry.objects.filter(did="could not sign in", who="luna").count() == 7


def test_a_refusal_takes_as_long_whether_the_name_exists(db: None, settings: Any) -> None:
    settings.PASSWORD_HASHERS = ["varlen_server.people.hashers.PasswordHasher"]
    settings.AXES_ENABLED = False
    person("luna", "work")
    person("shut-out", "work")
    User.objects.filter(username="shut-out").update(is_active=False)
    client, took = Client(HTTP_ORIGIN="http://testserver"), {"luna": [], "nobody-of-that-name": [], "shut-out": []}
    for _ in range(9):
        for name, times in took.items():
            begun = time.perf_counter()
            answer = client.post("/api/session", {"name": name, "password": "not this"}, content_type="application/json")
            times.append(time.perf_counter() - begun)
            assert (answer.status_code, answer.json()["message"]) == (401, "Name or password is not right.")
    medians = [statistics.median(times) for times in took.values()]
    assert max(medians) < 1.35 * min(medians), medians


def test_another_site_is_refused(visitors: dict[str, Client]) -> None:
    """Pages elsewhere, siblings under the same name, names pointed at this machine, cookies without a page."""
    keeper = visitors["keep"]
    for more in ({"HTTP_ORIGIN": "https://moths.example"}, {"HTTP_ORIGIN": "null"}, {"HTTP_SEC_FETCH_SITE": "cross-site"},
                 {"HTTP_SEC_FETCH_SITE": "same-site"}):  # fmt: skip
        assert keeper.post("/api/tokens", {"name": "x", "scope": "work"}, content_type="application/json", **more).status_code == 403, more
    bare = Client()
    bare.cookies = keeper.cookies
    assert bare.post("/api/tokens", {"name": "x", "scope": "work"}, content_type="application/json").status_code == 403
    own_page = {"HTTP_SEC_FETCH_SITE": "same-origin"}
    assert bare.post("/api/tokens", {"name": "x", "scope": "work"}, content_type="application/json", **own_page).status_code == 201
    assert keeper.get("/api/datasets", HTTP_HOST="rebound.example").status_code == 400
    assert keeper.get("/", HTTP_HOST="rebound.example").status_code == 400


def test_the_last_keeper_stays(visitors: dict[str, Client]) -> None:
    keeper = visitors["keep"]
    me = Member.objects.get(user__username="keep")
    for change in ({"role": "work"}, {"active": False}):
        assert keeper.patch(f"/api/people/{me.pk}", change, content_type="application/json").status_code == 409
    other = Member.objects.get(user__username="look")
    assert keeper.patch(f"/api/people/{other.pk}", {"role": "keep"}, content_type="application/json").json()["role"] == "keep"
    assert keeper.patch(f"/api/people/{me.pk}", {"active": False}, content_type="application/json").json()["active"] is False
    assert keeper.get("/api/datasets").status_code == 401
    assert visitors["token for work"].get("/api/datasets").status_code == 401


def test_things_bear_names_and_the_log_tells(visitors: dict[str, Client], moths: Any, lamp_drift: dict[str, Any]) -> None:
    worker, keeper = visitors["work"], visitors["keep"]
    made = worker.post("/api/pipelines", {"document": lamp_drift}, content_type="application/json").json()
    changed = {"document": {**lamp_drift, "seed": 7}, "base": 1}
    visitors["token for work"].post(f"/api/pipelines/{made['pipeline']}", changed, content_type="application/json")
    listed = keeper.get("/api/pipelines").json()[-1]
    assert (listed["made_by"], listed["changed_by"]) == ("work", "keep (for work)")
    lines = keeper.get(f"/api/pipelines/{made['pipeline']}/revisions").json()
    assert [line["made_by"] for line in lines] == ["keep (for work)", "work"]
    edition = worker.post("/api/editions", {"name": "Night", "dataset": moths.pk, "document": lamp_drift}, content_type="application/json").json()
    assert edition["made_by"] == "work"
    keeper.delete(f"/api/pipelines/{made['pipeline']}")
    log = keeper.get("/api/log").json()
    assert [(each["who"], each["did"], each["what"].split(" ")[0]) for each in log[:5]] == [
        ("keep", "deleted", "pipeline"),
        ("work", "made", "edition"),
        ("keep (for work)", "made", "revision"),
        ("work", "made", "revision"),
        ("work", "made", "pipeline"),
    ]
    assert log[0]["address"] == "127.0.0.1"
    assert len(log[0]["request"]) == 16
    assert keeper.get(f"/api/log?before={log[0]['id']}&count=1").json() == log[1:2]


def test_pages_and_answers_bear_their_headers(visitors: dict[str, Client], settings: Any) -> None:
    keeper = visitors["keep"]
    for address in ("/", "/api/datasets", "/api/none", "/nowhere", "/healthz"):
        answer = keeper.get(address)
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
    assert keeper.get("/", HTTP_X_REQUEST_ID="given-by-a-proxy")["X-Request-Id"] == "given-by-a-proxy"
    assert keeper.get("/", HTTP_X_REQUEST_ID="given\nby")["X-Request-Id"] != "given\nby"


def test_nothing_stands_in_the_page_for_nobody(visitors: dict[str, Client], moths: Any) -> None:
    assert b"first-data" not in visitors["nobody"].get("/").content
    assert b"Night moth survey" in visitors["look"].get("/").content


def test_enormous_bodies_are_refused_unread(visitors: dict[str, Client]) -> None:
    for client in (visitors["nobody"], visitors["work"]):
        answer = client.generic("POST", "/api/sheet", b"", content_type="application/json", CONTENT_LENGTH=str(9 << 20))
        assert answer.status_code == 413
        answer = client.generic("POST", "/api/imports/1/files", b"", content_type="multipart/form-data; boundary=x", CONTENT_LENGTH=str(5 << 30))
        assert answer.status_code == 413


def test_expensive_things_are_limited_by_person(visitors: dict[str, Client], monkeypatch: pytest.MonkeyPatch) -> None:
    from varlen_server.people.throttles import VisitorThrottle

    monkeypatch.setattr(VisitorThrottle, "THROTTLE_RATES", {"order": "3/min", "sign-in": "30/min", "count": "2/min", "render": "2/min"})
    worker, keeper = visitors["work"], visitors["keep"]
    found = [worker.post("/api/editions", {}, content_type="application/json").status_code for _ in range(5)]
    assert found == [400, 400, 400, 429, 429]
    assert keeper.post("/api/editions", {}, content_type="application/json").status_code == 400


def test_where_nobody_signs_in_there_are_no_accounts(db: None, settings: Any) -> None:
    settings.SIGN_IN = settings.AXES_ENABLED = False
    client = Client()
    assert client.get("/api/session").json() == {"sign_in": False, "name": "", "role": "keep"}
    for address, body in (("/api/tokens", {"name": "x", "scope": "work"}), ("/api/invitations", {"role": "keep"}),
                          ("/api/session", {"name": "x", "password": "y"})):  # fmt: skip
        answer = client.post(address, body, content_type="application/json")
        assert answer.status_code == 409
        assert "nobody signs in" in answer.json()["message"]
    assert not Token.objects.exists()
    assert not Invitation.objects.exists()


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
    worker = visitors["work"]
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
    worker = visitors["work"]
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
    worker = visitors["work"]
    found = worker.get("/api/folders", {"path": f"{bucket.url}/shared"}).json()
    assert [each["path"] for each in found["folders"]] == [f"{bucket.url}/shared/survey"]
    begun = worker.post("/api/imports", {"folder": f"{bucket.url}/shared/survey"}, content_type="application/json")
    assert begun.status_code == 201, begun.json()
    assert worker.get(f"/api/imports/{begun.json()['id']}/example.jpg").status_code == 200
    worker.post(f"/api/imports/{begun.json()['id']}/start", {}, content_type="application/json")
    import_dataset_task(import_id=begun.json()["id"])
    made = Dataset.objects.get(name="survey")
    assert (made.source, made.images.count(), made.made_by) == (f"{bucket.url}/shared/survey", 8, "work")
