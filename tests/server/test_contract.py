"""The API holds against whatever its own schema lets anyone send."""

from __future__ import annotations

from typing import Any

import pytest
import schemathesis
from django.core.wsgi import get_wsgi_application
from django.test import Client
from hypothesis import HealthCheck, Phase, settings
from schemathesis.checks import not_a_server_error

from tests.server.test_api import post

pytestmark = pytest.mark.django_db


@pytest.fixture
def api(client: Client, moths: Any, lamp_drift: dict[str, Any]) -> Any:
    """The schema as served, with a dataset, a pipeline and an order behind it."""
    post(client, "/api/pipelines", {"document": lamp_drift})
    post(client, "/api/editions", {"name": "Ordered", "dataset": moths.pk, "document": lamp_drift})
    return schemathesis.openapi.from_wsgi("/api/schema", get_wsgi_application())


contract = schemathesis.pytest.from_fixture("api")


@contract.parametrize()
@settings(max_examples=12, derandomize=True, deadline=None, phases=[Phase.explicit, Phase.generate], suppress_health_check=list(HealthCheck))
def test_nothing_that_is_sent_breaks_the_server(case: schemathesis.Case) -> None:
    """Wrong kinds, far too large numbers, strange words, missing parts: refused with a reason, never an error of the server's own."""
    case.call_and_validate(checks=(not_a_server_error,))
