"""Columns of our own."""

from __future__ import annotations

from typing import Any

import orjson
from django.db import models

from varlen_server.encoded_json import EncodedJSON


class JSONTextField(models.TextField):
    """JSON that is only kept, never queried: as text the database need neither parse nor rebuild it."""

    def from_db_value(self, value: str | None, expression: Any, connection: Any) -> Any:
        return None if value is None else orjson.loads(value)

    def to_python(self, value: Any) -> Any:
        return value

    def get_prep_value(self, value: Any) -> str | None:
        if value is None or isinstance(value, EncodedJSON):
            return value
        return orjson.dumps(value).decode()
