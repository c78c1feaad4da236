"""Answers that are kept: the same question has the same answer."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import orjson
from django.conf import settings
from varlen._version import __version__
from varlen.atomic_files import write_if_room


def cached_json(kind: str, question: list[Any], make: Callable[[], Any]) -> bytes:
    """The answer to `question` as JSON, from the disk or made now. question: all that the answer depends on, as JSON-able values."""
    name = hashlib.sha256(json.dumps([__version__, *question]).encode()).hexdigest()
    path: Path = settings.TILES / kind / f"{name}.json"
    if path.exists():
        return path.read_bytes()
    answer = orjson.dumps(make())
    write_if_room(path, answer)
    return answer


def cached_picture(path: Path, make: Callable[[], bytes]) -> bytes:
    """A picture from the disk, or made now and kept there if there is room."""
    try:
        return path.read_bytes()
    except FileNotFoundError:
        found = make()
    write_if_room(path, found)
    return found
