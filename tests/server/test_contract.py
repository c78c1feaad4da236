"""The API holds against whatever its own schema lets anyone send."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import pytest
import schemathesis
from django.core.signals import request_finished, request_started
from django.core.wsgi import get_wsgi_application
from django.db import close_old_connections, transaction
from django.test import Client
from hypothesis import HealthCheck, Phase, given, settings
from schemathesis.checks import not_a_server_error
from schemathesis.core.failures import FailureGroup

from tests.server.test_api import post

pytestmark = pytest.mark.django_db

quick = settings(max_examples=10, derandomize=True, deadline=None, phases=[Phase.generate], suppress_health_check=list(HealthCheck), database=None)


@contextmanager
def one_connection() -> Iterator[None]:
    """Requests of the application itself end with closing the database's connection; the test's own is to be kept."""
    for signal in (request_started, request_finished):
        signal.disconnect(close_old_connections)
    yield
    for signal in (request_started, request_finished):
        signal.connect(close_old_connections)


@pytest.mark.slow
def test_nothing_that_is_sent_breaks_the_server(client: Client, moths: Any, lamp_drift: dict[str, Any]) -> None:
    """Wrong kinds, far too large numbers, strange words, missing parts: refused with a reason, never an error of the server's own."""
    post(client, "/api/pipelines", {"document": lamp_drift})
    post(client, "/api/editions", {"name": "Ordered", "dataset": moths.pk, "document": lamp_drift})
    broken: dict[str, str] = {}
    with one_connection():
        operations = [found.ok() for found in schemathesis.openapi.from_wsgi("/api/schema", get_wsgi_application()).get_all_operations()]
        for operation in operations:
            try:
                _holds(operation)
            except FailureGroup as failures:
                broken[operation.label] = str(failures.exceptions[0])
    assert len(operations) > 50
    assert broken == {}


def _holds(operation: Any) -> None:
    @quick
    @given(operation.as_strategy())
    def holds(case: Any) -> None:
        # Whatever it changed is taken back, so that every request finds the same things.
        with transaction.atomic():
            case.call_and_validate(checks=(not_a_server_error,))
            transaction.set_rollback(True)

    holds()
