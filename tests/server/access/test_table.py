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
#: Written by hand. Who may: a viewer, an editor, an admin; a token that reads, scores, writes. `-` is nobody at all.
TABLE = """
-        GET     /api/session
-        POST    /api/session
-        POST    /api/invitations/accept
-        POST    /api/invitations/open
vea      POST    /api/session/password
vea r w  GET     /api/schema
vea r w  POST    /api/advice
vea r w  POST    /api/compare
vea r w  GET     /api/datasets
vea r w  GET     /api/datasets/{id}
  a      DELETE  /api/datasets/{id}
 ea   w  POST    /api/datasets/{id}/edits
 ea   w  DELETE  /api/datasets/{id}/edits
vea r w  GET     /api/datasets/{id}/findings
vea r w  GET     /api/datasets/{id}/images
 ea   w  PUT     /api/datasets/{id}/marks
vea r w  GET     /api/datasets/{id}/overview
vea r w  GET     /api/datasets/{id}/rows
vea rsw  GET     /api/editions
 ea   w  POST    /api/editions
vea rsw  GET     /api/editions/{id}
 ea   w  PATCH   /api/editions/{id}
  a      DELETE  /api/editions/{id}
 ea   w  POST    /api/editions/{id}/cancel
 ea   w  POST    /api/editions/{id}/check
 ea   w  POST    /api/editions/{id}/copy
vea r w  GET     /api/editions/{id}/compare/{other}
vea r w  GET     /api/editions/{id}/download
vea r w  GET     /api/editions/{id}/images
vea r w  GET     /api/editions/{id}/images/{row}
vea r w  POST    /api/editions/{id}/images/{row}/recreate
vea r w  GET     /api/editions/{id}/pictures/{row}/{digest}/{width}.jpg
 ea   w  POST    /api/editions/{id}/resume
vea rsw  GET     /api/editions/{id}/scores
 ea  sw  POST    /api/editions/{id}/scores
vea r w  POST    /api/editions/estimate
 ea   w  GET     /api/folders
vea r w  POST    /api/forecast
vea r w  POST    /api/forecast/limit
vea r w  GET     /api/formats
vea r w  GET     /api/images/{id}
vea r w  GET     /api/images/{id}/map.png
 ea   w  POST    /api/imports
vea r w  GET     /api/imports/{id}
 ea   w  DELETE  /api/imports/{id}
vea r w  GET     /api/imports/{id}/example.jpg
 ea   w  POST    /api/imports/{id}/files
 ea   w  POST    /api/imports/{id}/recognise
 ea   w  POST    /api/imports/{id}/start
vea r w  GET     /api/inquiries
vea r w  GET     /api/inquiries/{id}
  a      DELETE  /api/inquiries/{id}
 ea   w  POST    /api/inquiries/{id}/cancel
 ea   w  POST    /api/inquiries/{id}/resume
  a      GET     /api/invitations
  a      POST    /api/invitations
  a      DELETE  /api/invitations/{id}
vea r w  POST    /api/ledger
  a      GET     /api/log
vea r w  POST    /api/looks
 ea   w  POST    /api/matches
vea r w  POST    /api/matches/place
  a      GET     /api/people
  a      PATCH   /api/people/{id}
vea r w  GET     /api/pictures/{sha256}/{width}.jpg
vea r w  GET     /api/pipelines
 ea   w  POST    /api/pipelines
vea r w  GET     /api/pipelines/{id}
 ea   w  POST    /api/pipelines/{id}
 ea   w  PATCH   /api/pipelines/{id}
  a      DELETE  /api/pipelines/{id}
vea r w  GET     /api/pipelines/{id}/revisions
 ea   w  POST    /api/probes
 ea   w  PATCH   /api/revisions/{id}
vea r w  POST    /api/sheet
vea r w  GET     /api/starting-points
vea r w  GET     /api/steps
vea r w  GET     /api/tiles/{dataset}/{snapshot}/{pipeline}/{image}/{variant}/{width}.jpg
vea r w  GET     /api/tiles/{dataset}/{snapshot}/{pipeline}/{image}/{variant}/map.png
vea r w  GET     /api/tiles/{dataset}/{snapshot}/{pipeline}/{image}/{variant}/trace
vea r w  GET     /api/tiles/{dataset}/{snapshot}/{pipeline}/{image}/{variant}/pixel
vea r w  GET     /api/tiles/{dataset}/{snapshot}/{pipeline}/{image}/{variant}/moves
vea r w  GET     /api/images/{id}/pixel
  a      GET     /api/tokens
  a      POST    /api/tokens
  a      DELETE  /api/tokens/{id}
vea r w  GET     /api/trials
 ea   w  POST    /api/trials
vea r w  POST    /api/worst
vea r w  GET     /metrics
vea r w  DELETE  /api/session
""".strip("\n")
#: Column of the table, by visitor.
COLUMNS = {"viewer": 0, "editor": 1, "admin": 2, "read": 4, "scores": 5, "token for write": 6}
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
    owner = person("luna", "editor")
    client = bearing(services.new_token(owner, "loop", Scope.WRITE, 30)[1])
    assert client.post("/api/imports", {}, content_type="application/json").status_code == 201
    Member.objects.filter(user=owner).update(role=Role.VIEWER)
    assert client.post("/api/imports", {}, content_type="application/json").status_code == 403
    assert client.get("/api/datasets").status_code == 200
