"""A real PostgreSQL for the tests of the server: started on loopback, stopped at the end."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

PROJECT = Path(__file__).resolve().parents[2]


@pytest.fixture(scope="session")
def database() -> Iterator[dict[str, Any]]:
    command = [sys.executable, PROJECT / "scripts" / "postgres.py"]
    state = ["--state", PROJECT / ".varlen" / os.environ.get("VARLEN_TEST_STATE", "test-database")]
    started = subprocess.run([*command, "start", *state, "--fast"], check=True, stdout=subprocess.PIPE, text=True)
    yield json.loads(started.stdout)
    subprocess.run([*command, "stop", *state], check=True)


@pytest.fixture(scope="session")
def django_db_modify_db_settings(database: dict[str, Any]) -> None:
    """Point Django at the cluster of the tests."""
    from django.db import connections

    found = {"HOST": database["host"], "PORT": database["port"], "USER": database["user"], "PASSWORD": database["password"], "NAME": database["name"]}
    connections["default"].settings_dict.update(found)
    connections.databases["default"].update(found)


@pytest.fixture(autouse=True)
def own_folders(settings: Any, tmp_path: Path) -> Iterator[None]:
    """Files of a test go to a folder of its own; nothing is remembered from the test before."""
    from varlen_server.datasets.services import load
    from varlen_server.sheet.renderers import renderer_for
    from varlen_server.sheet.services import key_of

    for name in ("PICTURES", "TILES", "EDITIONS", "UPLOADS"):
        setattr(settings, name, tmp_path / name.lower())
    for kept in (load, renderer_for, key_of):
        kept.cache_clear()
    return


@pytest.fixture
def moths(db: None, survey_folder: Path) -> Any:
    from varlen_server.datasets.services import import_dataset
    from varlen_server.datasets.tasks import scan_pixels

    found = import_dataset(survey_folder, "Night moth survey")
    scan_pixels(found)
    return found
