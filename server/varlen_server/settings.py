"""Settings of the server. Everything it writes lies below one folder, VARLEN_STATE."""

from __future__ import annotations

import json
import os
import secrets
from pathlib import Path
from typing import Any

PROJECT = Path(__file__).resolve().parent.parent.parent
STATE = Path(os.environ.get("VARLEN_STATE") or PROJECT / ".varlen")
PICTURES = STATE / "pictures"
TILES = STATE / "tiles"
EDITIONS = STATE / "editions"
UPLOADS = STATE / "uploads"
#: Address of a Dask scheduler that makes the editions; without it processes of this machine do.
SCHEDULER = os.environ.get("VARLEN_SCHEDULER", "")
#: Folders from which datasets may be imported by name; VARLEN_FOLDERS names others.
_NAMED = [Path(name).expanduser().resolve() for name in os.environ.get("VARLEN_FOLDERS", "").split(os.pathsep) if name]
FOLDERS = _NAMED or [Path.home(), STATE / "demo"]
WEB = PROJECT / "web" / "dist"
#: The handbook, a static site that `make docs` builds.
HANDBOOK = PROJECT / "docs" / "_site"


def _secret() -> str:
    """A key of this installation's own, made on first use."""
    path = STATE / "secret"
    if not path.exists():
        STATE.mkdir(parents=True, exist_ok=True)
        path.touch(mode=0o600)
        path.write_text(secrets.token_urlsafe(48))
    return path.read_text()


def _database() -> dict[str, Any]:
    """Where scripts/postgres.py says the private cluster listens."""
    path = STATE / "database" / "database.json"
    found = json.loads(path.read_text()) if path.exists() else {"host": "127.0.0.1", "port": 0, "user": "", "password": "", "name": ""}
    return {
        "ENGINE": "django.db.backends.postgresql",
        "HOST": found["host"],
        "PORT": found["port"],
        "USER": found["user"],
        "PASSWORD": found["password"],
        "NAME": found["name"],
        "CONN_HEALTH_CHECKS": True,
        "OPTIONS": {"pool": {"min_size": 1, "max_size": 8}} if os.environ.get("VARLEN_POOL") else {},
    }


SECRET_KEY = _secret()
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]"]
USE_TZ = True
TIME_ZONE = "UTC"
ROOT_URLCONF = "varlen_server.urls"
WSGI_APPLICATION = "varlen_server.wsgi.application"
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
DATABASES = {"default": _database()}
INSTALLED_APPS = [
    "django.contrib.contenttypes",
    "django.contrib.auth",
    "rest_framework",
    "drf_spectacular",
    "procrastinate.contrib.django",
    "varlen_server.datasets",
    "varlen_server.pipelines",
    "varlen_server.editions",
    "varlen_server.evidence",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "varlen_server.middleware.PlainTextMiddleware",
    "varlen_server.middleware.SameOriginMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
]
STATIC_URL = "/static/"
WHITENOISE_ROOT = WEB if WEB.exists() else None
WHITENOISE_IMMUTABLE_FILE_TEST = r"^/assets/"
DATA_UPLOAD_MAX_MEMORY_SIZE = 8 << 20
FILE_UPLOAD_TEMP_DIR = None
FILE_UPLOAD_HANDLERS = ["django.core.files.uploadhandler.TemporaryFileUploadHandler"]
LARGEST_UPLOAD = 4 << 30
REST_FRAMEWORK = {
    "DEFAULT_SCHEMA_CLASS": "drf_spectacular.openapi.AutoSchema",
    "DEFAULT_AUTHENTICATION_CLASSES": [],
    "DEFAULT_PERMISSION_CLASSES": [],
    "DEFAULT_RENDERER_CLASSES": ["varlen_server.json_renderer.FastJSONRenderer"],
    "DEFAULT_PARSER_CLASSES": ["rest_framework.parsers.JSONParser"],
    "EXCEPTION_HANDLER": "varlen_server.errors.explain",
    "UNAUTHENTICATED_USER": None,
}
SPECTACULAR_SETTINGS = {
    "TITLE": "Varlen",
    "DESCRIPTION": "Datasets, pipelines, contact sheets and editions.",
    "VERSION": "1",
    "OAS_VERSION": "3.1.0",
    "SERVE_INCLUDE_SCHEMA": False,
    "COMPONENT_SPLIT_REQUEST": True,
    "ENUM_NAME_OVERRIDES": {
        "EditionState": "varlen_server.editions.models.Edition.State",
        "ImportState": "varlen_server.datasets.models.DatasetImport.State",
    },
}
PROCRASTINATE_ON_APP_READY = "varlen_server.editions.stalled_jobs.register"
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
}
