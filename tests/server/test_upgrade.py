"""A database that an earlier version left behind continues under this one: dumps of real ones are kept in `kept/`."""

from __future__ import annotations

import gzip
import json
import os
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import psycopg
import pytest

KEPT = Path(__file__).parent / "kept"
#: What is in each: of version 0.1, first and last, and from before people had accounts.
DUMPS = {
    "version-0.1.0": ["Night moth survey", 6, True, "move", "kept", 1, "left over", []],
    "version-0.1-people": ["Night moth survey", 16, True, "move", "Kept by name", 1, "", []],
    "before-accounts": ["Night moth survey", 8, True, "move", "kept", 1, "", ["probe"]],
}
SERVER = Path(__file__).resolve().parents[2] / "server"
NAME = "varlen_of_before"


@pytest.fixture(params=DUMPS)
def before(request: pytest.FixtureRequest, database: dict[str, Any]) -> Iterator[dict[str, Any]]:
    """A database of its own with a dump in it."""
    about = {"host": database["host"], "port": database["port"], "user": database["user"], "password": database["password"]}
    with psycopg.connect(**about, dbname=database["name"], autocommit=True) as admin:
        admin.execute(f"drop database if exists {NAME}")
        admin.execute(f"create database {NAME}")
    environment = {**os.environ, "PGPASSWORD": about["password"]}
    words = ["psql", "-h", about["host"], "-p", str(about["port"]), "-U", about["user"], "-q", "-v", "ON_ERROR_STOP=1", NAME]
    subprocess.run(
        words, input=gzip.decompress((KEPT / f"{request.param}.sql.gz").read_bytes()), env=environment, check=True, stdout=subprocess.DEVNULL
    )
    yield {**about, "name": NAME, "holds": DUMPS[request.param], "people": request.param == "version-0.1-people"}
    with psycopg.connect(**about, dbname=database["name"], autocommit=True) as admin:
        admin.execute(f"drop database {NAME} with (force)")


@pytest.mark.slow
def test_a_database_of_before_goes_on(before: dict[str, Any], tmp_path: Path) -> None:
    """Migrating it makes exactly the tables of a new one, and everything in it is still there."""
    told_where = json.dumps({"HOST": before["host"], "PORT": before["port"], "USER": before["user"], "PASSWORD": before["password"], "NAME": NAME})
    told = f"""
import json, os, django
os.environ["DJANGO_SETTINGS_MODULE"] = "varlen_server.settings"
from django.conf import settings
django.setup()
from django.db import connections
connections.databases["default"].update(json.loads({told_where!r}))
from django.core.management import call_command
call_command("migrate", verbosity=0)
call_command("makemigrations", check=True, dry_run=True, verbosity=0)
from varlen_server.datasets.models import Dataset, DatasetImport, Edit
from varlen_server.datasets.services import digest_of
from varlen_server.editions.models import Edition
from varlen_server.evidence.models import Inquiry
from varlen_server.pipelines.models import Revision
dataset = Dataset.objects.get()
print(json.dumps([dataset.name, dataset.images.count(), digest_of(dataset) == dataset.digest, Edit.objects.get().kind,
                  Edition.objects.get().name, Revision.objects.get().number, "".join(each.name for each in DatasetImport.objects.all()),
                  [each.kind for each in Inquiry.objects.all()]]))
from varlen_server.people.models import Invitation, Member, Token
print(json.dumps([{{each.user.username: each.role for each in Member.objects.all()}}, sorted(each.scope for each in Token.objects.all()),
                  [each.role for each in Invitation.objects.all()]]))
"""
    environment = {**os.environ, "VARLEN_STATE": str(tmp_path)}
    done = subprocess.run([sys.executable, "-c", told], cwd=SERVER, env=environment, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    held, people = map(json.loads, done.stdout.splitlines())
    assert held == before["holds"]
    if before["people"]:
        # What was called look, work and keep; a token that could work can write.
        assert people == [{"ada": "viewer", "ben": "editor", "luna": "admin"}, ["read", "scores", "write"], ["editor"]]
