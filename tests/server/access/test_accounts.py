"""Accounts: secrets, invitations, sessions, passwords, and who did what."""

from __future__ import annotations

import time
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from typing import Any

import pytest
from django.conf import settings as django_settings
from django.contrib.auth.models import User
from django.db import connection, transaction
from django.test import Client
from django.utils import timezone
from varlen_server.people import services
from varlen_server.people.models import Invitation, LogEntry, Member, Token
from varlen_server.people.roles import Role, Scope

from tests.server.access.conftest import PASSWORD, bearing, person, signed_in

pytestmark = pytest.mark.django_db


def test_secrets_are_kept_as_digests_and_shown_once(visitors: dict[str, Client]) -> None:
    admin = visitors["admin"]
    made = admin.post("/api/tokens", {"name": "training", "scope": "scores", "days": 3}, content_type="application/json")
    secret = made.json()["secret"]
    assert made.status_code == 201
    assert secret.startswith("varlen_")
    assert secret not in admin.get("/api/tokens").content.decode()
    assert not [row for row in Token.objects.values() if secret in str(row)]
    invited = admin.post("/api/invitations", {"role": "viewer"}, content_type="application/json").json()
    assert not [row for row in Invitation.objects.values() if invited["secret"] in str(row)]
    assert bearing(secret).get("/api/editions").status_code == 200
    assert admin.get("/api/tokens").json()[0]["last_used"]
    assert admin.delete(f"/api/tokens/{made.json()['id']}").json()["revoked"]
    answer = bearing(secret).get("/api/editions")
    assert answer.status_code == 401
    assert answer.json()["message"] == "This token was revoked."
    assert answer["WWW-Authenticate"] == "Bearer"


@pytest.mark.parametrize("name", ["token", "access_token", "Token", "api_key", "authorization", "password"])
def test_a_secret_in_an_address_is_refused(visitors: dict[str, Client], name: str) -> None:
    for client in (visitors["admin"], visitors["read"], visitors["nobody"]):
        answer = client.get(f"/api/datasets?{name}=varlen_abc")
        assert answer.status_code == 400
        assert "varlen_abc" not in answer.content.decode()


def test_the_first_account_an_invitation_and_its_reuse(db: None) -> None:
    """The link that is printed makes an admin, once; another is made by that admin, and each works once."""
    secret = services.first_link_secret()
    client = Client(HTTP_ORIGIN="http://testserver")
    old, secret = secret, services.first_link_secret()
    told = {"secret": old, "name": "luna", "password": PASSWORD}
    assert client.post("/api/invitations/accept", told, content_type="application/json").status_code == 400  # printed again since
    told["secret"] = secret
    assert client.post("/api/invitations/accept", {**told, "password": "moth"}, content_type="application/json").status_code == 400
    joined = client.post("/api/invitations/accept", told, content_type="application/json")
    assert (joined.status_code, joined.json()) == (201, {"sign_in": True, "name": "luna", "role": "admin"})
    again = Client(HTTP_ORIGIN="http://testserver").post("/api/invitations/accept", {**told, "name": "other"}, content_type="application/json")
    assert again.status_code == 400
    assert "was used" in again.json()["message"]
    assert services.first_link_secret() is None
    link = client.post("/api/invitations", {"role": "viewer"}, content_type="application/json").json()["secret"]
    second = Client(HTTP_ORIGIN="http://testserver")
    assert second.post("/api/invitations/open", {"secret": link}, content_type="application/json").json()["role"] == "viewer"
    same = {"secret": link, "name": "LUNA", "password": PASSWORD}
    assert second.post("/api/invitations/accept", same, content_type="application/json").json()["message"] == "This name is taken."
    assert second.post("/api/invitations/accept", {**same, "name": "ada"}, content_type="application/json").json()["role"] == "viewer"
    Invitation.objects.create(digest=services.digest_of("late"), role="admin", expires=timezone.now() - timedelta(seconds=1))
    assert second.post("/api/invitations/open", {"secret": "late"}, content_type="application/json").status_code == 400


def test_an_invitation_is_used_once_by_whoever_is_first(db: None) -> None:
    with transaction.atomic():
        _, secret = services.invite(Role.EDITOR, "luna")
    client = Client(HTTP_ORIGIN="http://testserver")
    outcomes = [client.post("/api/invitations/accept", {"secret": secret, "name": f"moth{n}", "password": PASSWORD}, content_type="application/json")
                .status_code for n in range(3)]  # fmt: skip
    assert outcomes == [201, 400, 400]


def test_the_session_begins_under_a_new_key(db: None) -> None:
    """A key that somebody planted in a browser beforehand is worth nothing after signing in."""
    person("luna", "editor")
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
    here, there = signed_in("luna", "editor"), Client(HTTP_ORIGIN="http://testserver")
    there.post("/api/session", {"name": "luna", "password": PASSWORD}, content_type="application/json")
    assert there.get("/api/datasets").status_code == 200
    changed = {"old": PASSWORD, "new": "another lamp, further off"}
    assert here.post("/api/session/password", {**changed, "old": "wrong"}, content_type="application/json").status_code == 400
    assert here.post("/api/session/password", changed, content_type="application/json").status_code == 204
    assert (here.get("/api/datasets").status_code, there.get("/api/datasets").status_code) == (200, 401)


def test_guessing_is_stopped(db: None) -> None:
    """Five wrong passwords, and even the right one waits; another person is not kept out."""
    person("luna", "editor")
    person("ada", "editor")
    client = Client(HTTP_ORIGIN="http://testserver")
    wrong = [client.post("/api/session", {"name": "luna", "password": f"guess {n}"}, content_type="application/json").status_code for n in range(6)]
    assert wrong == [401, 401, 401, 401, 429, 429]
    assert client.post("/api/session", {"name": "luna", "password": PASSWORD}, content_type="application/json").status_code == 429
    assert client.post("/api/session", {"name": "ada", "password": PASSWORD}, content_type="application/json").status_code == 200
    assert LogEntry.objects.filter(did="could not sign in", who="luna").count() == 7


def test_a_refusal_takes_as_long_whether_the_name_exists(db: None, settings: Any) -> None:
    settings.PASSWORD_HASHERS = ["varlen_server.people.services.PasswordHasher"]
    settings.AXES_ENABLED = False
    person("luna", "editor")
    person("shut-out", "editor")
    User.objects.filter(username="shut-out").update(is_active=False)
    client, took = Client(HTTP_ORIGIN="http://testserver"), {"luna": [], "nobody-of-that-name": [], "shut-out": []}
    for _ in range(9):
        for name, times in took.items():
            begun = time.process_time()  # of the processor, so that other programs don't count
            answer = client.post("/api/session", {"name": name, "password": "not this"}, content_type="application/json")
            times.append(time.process_time() - begun)
            assert (answer.status_code, answer.json()["message"]) == (401, "Name or password is not right.")
    least = {name: min(times) for name, times in took.items()}
    assert max(least.values()) < 1.35 * min(least.values()), least


def test_the_last_admin_stays(visitors: dict[str, Client]) -> None:
    admin = visitors["admin"]
    me = Member.objects.get(user__username="admin")
    for change in ({"role": "editor"}, {"active": False}):
        assert admin.patch(f"/api/people/{me.pk}", change, content_type="application/json").status_code == 409
    other = Member.objects.get(user__username="viewer")
    assert admin.patch(f"/api/people/{other.pk}", {"role": "admin"}, content_type="application/json").json()["role"] == "admin"
    assert admin.patch(f"/api/people/{me.pk}", {"active": False}, content_type="application/json").json()["active"] is False
    assert admin.get("/api/datasets").status_code == 401
    assert visitors["token for write"].get("/api/datasets").status_code == 401


def test_things_bear_names_and_the_log_tells(visitors: dict[str, Client], moths: Any, lamp_drift: dict[str, Any]) -> None:
    worker, admin = visitors["editor"], visitors["admin"]
    made = worker.post("/api/pipelines", {"document": lamp_drift}, content_type="application/json").json()
    changed = {"document": {**lamp_drift, "seed": 7}, "base": 1}
    visitors["token for write"].post(f"/api/pipelines/{made['pipeline']}", changed, content_type="application/json")
    listed = admin.get("/api/pipelines").json()[-1]
    assert (listed["made_by"], listed["changed_by"]) == ("editor", "admin (for write)")
    lines = admin.get(f"/api/pipelines/{made['pipeline']}/revisions").json()
    assert [line["made_by"] for line in lines] == ["admin (for write)", "editor"]
    edition = worker.post("/api/editions", {"name": "Night", "dataset": moths.pk, "document": lamp_drift}, content_type="application/json").json()
    assert edition["made_by"] == "editor"
    admin.delete(f"/api/pipelines/{made['pipeline']}")
    log = admin.get("/api/log").json()
    assert [(each["who"], each["did"], each["what"].split(" ")[0]) for each in log[:5]] == [
        ("admin", "deleted", "pipeline"),
        ("editor", "made", "edition"),
        ("admin (for write)", "made", "revision"),
        ("editor", "made", "revision"),
        ("editor", "made", "pipeline"),
    ]
    assert log[0]["address"] == "127.0.0.1"
    assert len(log[0]["request"]) == 16
    assert admin.get(f"/api/log?before={log[0]['id']}&count=1").json() == log[1:2]


def test_where_nobody_signs_in_there_are_no_accounts(db: None, settings: Any) -> None:
    settings.SIGN_IN = settings.AXES_ENABLED = False
    client = Client()
    assert client.get("/api/session").json() == {"sign_in": False, "name": "", "role": "admin"}
    for address, body in (("/api/tokens", {"name": "x", "scope": "write"}), ("/api/invitations", {"role": "admin"}),
                          ("/api/session", {"name": "x", "password": "y"})):  # fmt: skip
        answer = client.post(address, body, content_type="application/json")
        assert answer.status_code == 409
        assert "nobody signs in" in answer.json()["message"]
    assert not Token.objects.exists()
    assert not Invitation.objects.exists()


def test_words_of_version_0_1_are_understood(visitors: dict[str, Client]) -> None:
    """Programs written for it name roles and scopes by the words of then; answers have today's."""
    admin = visitors["admin"]
    for old, new in (("look", "viewer"), ("work", "editor"), ("keep", "admin")):
        assert admin.post("/api/invitations", {"role": old}, content_type="application/json").json()["role"] == new
    assert admin.post("/api/tokens", {"name": "x", "scope": "work"}, content_type="application/json").json()["scope"] == "write"
    assert admin.post("/api/invitations", {"role": "owner"}, content_type="application/json").status_code == 400


def test_a_token_never_changes_its_owner_s_password(visitors: dict[str, Client]) -> None:
    for name in ("read", "token for write"):
        answer = visitors[name].post("/api/session/password", {"old": PASSWORD, "new": "another long lamp"}, content_type="application/json")
        assert answer.status_code == 403
        assert "sign in with a browser" in answer.json()["message"]


def test_guessing_the_old_password_counts_as_signing_in(db: None) -> None:
    client = signed_in("mira", "editor")
    for _ in range(5):
        answer = client.post("/api/session/password", {"old": "wrong wrong", "new": "another long lamp"}, content_type="application/json")
    assert answer.status_code == 429
    assert client.post("/api/session/password", {"old": PASSWORD, "new": "another long lamp"}, content_type="application/json").status_code == 429


def test_who_was_shut_out_comes_back_with_nothing_left_from_before(db: None) -> None:
    """Sessions, tokens and open invitations end for good when their owner is shut out, or has another password."""
    admin, client = signed_in("head", "admin"), signed_in("mira", "admin")
    mira = User.objects.get(username="mira")
    for end in ("shut out", "another password"):
        token = bearing(services.new_token(mira, "loop", Scope.WRITE, 30)[1])
        _, secret = services.invite(Role.VIEWER, "mira")
        other = Client(HTTP_ORIGIN="http://testserver")
        other.force_login(mira, backend="django.contrib.auth.backends.ModelBackend")
        assert token.get("/api/datasets").status_code == other.get("/api/datasets").status_code == 200
        if end == "shut out":
            member = Member.objects.get(user=mira).pk
            for active in (False, True):
                assert admin.patch(f"/api/people/{member}", {"active": active}, content_type="application/json").status_code == 200
            assert client.get("/api/datasets").status_code == 401
            client.force_login(mira, backend="django.contrib.auth.backends.ModelBackend")
        else:
            wish = {"old": PASSWORD, "new": "another long lamp"}
            assert client.post("/api/session/password", wish, content_type="application/json").status_code == 204
            assert client.get("/api/datasets").status_code == 200
        assert token.get("/api/datasets").status_code == other.get("/api/datasets").status_code == 401
        accepted = {"secret": secret, "name": "stranger", "password": "some long password"}
        assert Client(HTTP_ORIGIN="http://testserver").post("/api/invitations/accept", accepted, content_type="application/json").status_code == 400


@pytest.mark.parametrize("name", ["LUNA", "ｌｕｎａ", "ℓuna", "1una", " luna "])
def test_names_that_look_alike_are_one_name(db: None, name: str) -> None:
    person("luna", "editor")
    assert _joined(name).json()["message"] in ("This name is taken.", "Enter a valid username. This value may contain only letters, numbers, "
                                               "and @/./+/-/_ characters.")  # fmt: skip
    assert Member.objects.count() == 1


def test_letters_of_other_scripts(db: None) -> None:
    """A whole name of one script is a name; Latin letters with one from elsewhere that looks like them are not."""
    person("luna", "editor")
    assert "several scripts" in _joined("lun\u0430").json()["message"]
    assert _joined("\u043b\u0443\u043d\u0430").status_code == 201


@pytest.mark.parametrize("password", [" " * 12, "passwordpassword", "by luna, for luna", "qwertyuiop12", "abcabcabcabcabc"])
def test_passwords_that_are_guessed_soon(db: None, password: str) -> None:
    assert _joined("luna", password).status_code == 400
    assert Member.objects.count() == 0


def test_of_names_that_look_alike_at_the_same_moment_one_is_made(transactional_db: None) -> None:
    with ThreadPoolExecutor(6) as pool:
        outcomes = sorted(pool.map(_apart, ["luna", "Luna", "LUNA", "lUna", "luNa", "lunA"]))
    assert outcomes == [201] + [400] * 5
    assert Member.objects.count() == 1


def test_one_address_does_not_guess_at_everybody(db: None) -> None:
    person("luna", "editor")
    client = Client(HTTP_ORIGIN="http://testserver")
    tried = [client.post("/api/session", {"name": f"moth{n}", "password": PASSWORD}, content_type="application/json").status_code for n in range(25)]
    assert tried == [401] * 20 + [429] * 5
    assert client.post("/api/session", {"name": "luna", "password": PASSWORD}, content_type="application/json").status_code == 429
    elsewhere = Client(HTTP_ORIGIN="http://testserver", REMOTE_ADDR="10.0.0.9")
    assert elsewhere.post("/api/session", {"name": "luna", "password": PASSWORD}, content_type="application/json").status_code == 200


def _joined(name: str, password: str = PASSWORD) -> Any:
    _, secret = services.invite(Role.EDITOR, "ada")
    told = {"secret": secret, "name": name, "password": password}
    client = Client(HTTP_ORIGIN="http://testserver", raise_request_exception=False)
    return client.post("/api/invitations/accept", told, content_type="application/json")


def _apart(name: str) -> int:
    """The same in a thread, with a connection of its own."""
    try:
        return _joined(name).status_code
    finally:
        connection.close()
