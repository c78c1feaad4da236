"""Columns of our own."""

from __future__ import annotations

from typing import Any

import orjson
from django.db import models


class JSONTextField(models.TextField):
    """JSON that is only kept, never asked about: as text the database needs neither parse nor rebuild it."""

    def from_db_value(self, value: str | None, expression: Any, connection: Any) -> Any:
        return None if value is None else orjson.loads(value)

    def to_python(self, value: Any) -> Any:
        return value

    def get_prep_value(self, value: Any) -> str | None:
        return None if value is None else orjson.dumps(value).decode()
