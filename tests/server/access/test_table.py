"""Who may ask what: every endpoint for every visitor."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
import yaml
from django.db import transaction
from django.test import Client
from varlen_server.people import services
from varlen_server.people.models import Member
from varlen_server.people.roles import Role, Scope

from tests.server.access.conftest import bearing, person

pytestmark = pytest.mark.django_db
SCHEMA = yaml.safe_load((Path(__file__).resolve().parents[3] / "server" / "schema.yaml").read_text())
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
