"""JSON that a worker process has encoded already. No Django here."""

from __future__ import annotations

from typing import Any

import orjson


class EncodedJSON(str):
    """A text that is JSON, ready for its column."""

    __slots__ = ()


def encoded(value: Any) -> EncodedJSON:
    """Plain values, NumPy arrays among them, as JSON."""
    return EncodedJSON(orjson.dumps(value, option=orjson.OPT_SERIALIZE_NUMPY).decode())


def storable(value: Any) -> Any:
    """Plain values as a JSON column can hold them: numbers that JSON does not know become null."""
    return orjson.loads(orjson.dumps(value)) if value else value
