"""Visitors of a Varlen that people sign in to."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.core.cache import cache
from django.test import Client
from django.utils import timezone
from varlen_server.people import services
from varlen_server.people.models import Member, Token
from varlen_server.people.roles import Scope

PASSWORD = "lamp at the window"
#: Hashing as in earnest takes its time on purpose; the test of its timing asks for it.
QUICK = ["django.contrib.auth.hashers.MD5PasswordHasher"]


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
    found = {role: signed_in(role, role) for role in ("viewer", "editor", "admin")}
    admin = User.objects.get(username="admin")
    for scope in Scope:
        found["token for write" if scope == "write" else scope] = bearing(services.new_token(admin, f"for {scope}", scope, 30)[1])
    expired, secret = services.new_token(admin, "old", Scope.WRITE, 30)
    Token.objects.filter(pk=expired.pk).update(expires=timezone.now() - timedelta(seconds=1))
    revoked, other = services.new_token(admin, "revoked", Scope.WRITE, 30)
    services.revoke(revoked)
    gone = person("gone", "editor")
    third = services.new_token(gone, "left behind", Scope.WRITE, 30)[1]
    User.objects.filter(pk=gone.pk).update(is_active=False)
    found.update({"expired token": bearing(secret), "revoked token": bearing(other), "token of one shut out": bearing(third)})
    return {**found, "nobody": Client(HTTP_ORIGIN="http://testserver"), "foreign token": bearing("varlen_somebody-elses")}
