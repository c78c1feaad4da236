"""Settings of the server. Everything it writes lies below one folder, VARLEN_STATE."""

from __future__ import annotations

import json
import os
import secrets
from datetime import timedelta
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
#: For a team none but the demo's, unless they are named: a home folder is somebody's own.
FOLDERS = _NAMED or ([] if os.environ.get("VARLEN_SIGN_IN") == "1" else [Path.home()]) + [STATE / "demo"]
#: URLs in object stores below which datasets may be imported and editions copied; VARLEN_STORES names them, with commas. None unless named.
STORES = [url.strip().rstrip("/") for url in os.environ.get("VARLEN_STORES", "").split(",") if url.strip()]
#: Whether people have accounts and sign in; only then may any other address than loopback be served.
SIGN_IN = os.environ.get("VARLEN_SIGN_IN") == "1"
#: Whether a proxy that speaks TLS stands in front: then cookies need TLS, and the proxy's word on the client's address counts.
BEHIND_PROXY = os.environ.get("VARLEN_BEHIND_TLS") == "1"
#: A worker that gave no sign for so many seconds counts as gone.
WORKER_SILENT = 40
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
#: Whether editions are signed, with `signing-key` in the state folder.
SIGN_EDITIONS = os.environ.get("VARLEN_SIGN") == "1"
DEBUG = False
#: Names under which pages may be asked for; any other, as of a page elsewhere whose name was pointed at this machine, is refused.
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]", *(name for name in os.environ.get("VARLEN_HOSTS", "").split(",") if name)]
USE_TZ = True
TIME_ZONE = "UTC"
ROOT_URLCONF = "varlen_server.urls"
WSGI_APPLICATION = "varlen_server.wsgi.application"
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
DATABASES = {"default": _database()}
INSTALLED_APPS = [
    "django.contrib.contenttypes",
    "django.contrib.auth",
    "django.contrib.sessions",
    "axes",
    "rest_framework",
    "drf_spectacular",
    "procrastinate.contrib.django",
    "varlen_server.datasets",
    "varlen_server.pipelines",
    "varlen_server.editions",
    "varlen_server.evidence",
    "varlen_server.people.apps.PeopleConfig",
]
MIDDLEWARE = [
    "varlen_server.metrics.RequestLogMiddleware",
    "varlen_server.middleware.HeadersMiddleware",
    "django.middleware.security.SecurityMiddleware",
    "varlen_server.middleware.PlainTextMiddleware",
    "varlen_server.middleware.NoSecretInAddressMiddleware",
    "varlen_server.middleware.BodyLimitMiddleware",
    "varlen_server.middleware.SameOriginMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "varlen_server.middleware.VisitorMiddleware",
    "varlen_server.middleware.NamesMiddleware",
]
AUTHENTICATION_BACKENDS = ["axes.backends.AxesStandaloneBackend", "django.contrib.auth.backends.ModelBackend"]
PASSWORD_HASHERS = ["varlen_server.people.services.PasswordHasher", "django.contrib.auth.hashers.PBKDF2PasswordHasher"]
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.UserAttributeSimilarityValidator"},
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 10}},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
    {"NAME": "django.contrib.auth.password_validation.NumericPasswordValidator"},
    {"NAME": "varlen_server.people.names.HardToGuess"},
]
SESSION_COOKIE_NAME = "varlen-session"
SESSION_COOKIE_SAMESITE = "Lax"
SESSION_COOKIE_AGE = 14 * 24 * 3600
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = BEHIND_PROXY
SECURE_REFERRER_POLICY = "same-origin"
SECURE_HSTS_SECONDS = 365 * 24 * 3600 if BEHIND_PROXY else 0
SECURE_PROXY_SSL_HEADER = ("HTTP_X_FORWARDED_PROTO", "https") if BEHIND_PROXY else None
#: Signing in: so many wrong passwords from one address for one name, then a quarter of an hour of rest.
AXES_ENABLED = SIGN_IN
AXES_FAILURE_LIMIT = 5
AXES_COOLOFF_TIME = timedelta(minutes=15)
AXES_LOCKOUT_PARAMETERS = [["username", "ip_address"]]
AXES_RESET_ON_SUCCESS = True
AXES_CLIENT_IP_CALLABLE = "varlen_server.requests.address_of"
AXES_SENSITIVE_PARAMETERS = ["password"]
AXES_VERBOSE = False
#: Its middleware only writes the answer to a visitor who is locked out; signing in writes its own.
SILENCED_SYSTEM_CHECKS = ["axes.W002"]
STATIC_URL = "/static/"
WHITENOISE_ROOT = WEB if WEB.exists() else None
WHITENOISE_IMMUTABLE_FILE_TEST = r"^/assets/"
DATA_UPLOAD_MAX_MEMORY_SIZE = 8 << 20
FILE_UPLOAD_TEMP_DIR = None
FILE_UPLOAD_HANDLERS = ["django.core.files.uploadhandler.TemporaryFileUploadHandler"]
LARGEST_UPLOAD = 4 << 30
REST_FRAMEWORK = {
    "DEFAULT_SCHEMA_CLASS": "drf_spectacular.openapi.AutoSchema",
    "DEFAULT_AUTHENTICATION_CLASSES": ["varlen_server.people.permissions.VisitorAuthentication"],
    "DEFAULT_PERMISSION_CLASSES": ["varlen_server.people.permissions.RolePermission"],
    "DEFAULT_THROTTLE_CLASSES": ["varlen_server.people.permissions.VisitorThrottle"],
    # A whole office may sign in from one address; a hand on a slider asks 20 times a second at most.
    "DEFAULT_THROTTLE_RATES": {"sign-in": "180/min", "order": "60/min", "count": "240/min", "render": "3000/min"},
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
    "SERVE_PERMISSIONS": ["varlen_server.people.permissions.RolePermission"],
    "COMPONENT_SPLIT_REQUEST": True,
    "ENUM_NAME_OVERRIDES": {
        "EditionState": "varlen_server.editions.models.Edition.State",
        "ImportState": "varlen_server.datasets.models.DatasetImport.State",
    },
}
PROCRASTINATE_ON_APP_READY = "varlen_server.editions.recovery.register"
#: VARLEN_LOG=json writes a line for every request and every job, and all others, as JSON.
_JSON_LOG = os.environ.get("VARLEN_LOG") == "json"
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"json": {"()": "varlen_server.metrics.JSONLines"}},
    "handlers": {"console": {"class": "logging.StreamHandler", **({"formatter": "json"} if _JSON_LOG else {})}},
    "root": {"handlers": ["console"], "level": "WARNING"},
    "loggers": {
        "varlen.requests": {"level": "INFO" if _JSON_LOG else "WARNING"},
        "procrastinate.worker": {"level": "INFO" if _JSON_LOG else "WARNING"},
        "axes": {"level": "ERROR"},
    },
}
