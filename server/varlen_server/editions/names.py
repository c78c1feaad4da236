"""Names of editions, no two alike."""

from __future__ import annotations

from varlen_server.editions.models import Edition


def free_name(name: str) -> str:
    """The name, with a number after it where another edition has it already."""
    taken = set(Edition.objects.filter(name__startswith=name).values_list("name", flat=True))
    return next(each for each in (name, *(f"{name} ({number})" for number in range(2, len(taken) + 3))) if each not in taken)
