"""A few of many, evenly spread."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TypeVar

T = TypeVar("T")


def spread(keys: Sequence[T], count: int) -> list[T]:
    """`count` of the keys, evenly spread."""
    if count >= len(keys):
        return list(keys)
    return [keys[n * len(keys) // count] for n in range(count)]
