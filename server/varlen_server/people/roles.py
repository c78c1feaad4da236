"""What a person may do, and what a token may."""

from __future__ import annotations

from django.db import models


class Role(models.TextChoices):
    """Each may do all that those before it may."""

    LOOK = "look"
    WORK = "work"  # pipelines, datasets, editions
    KEEP = "keep"  # people, tokens, deletion, the log

    def covers(self, needed: Role) -> bool:
        """Whether this role is enough where `needed` is."""
        order = list(Role)
        return order.index(self) >= order.index(needed)


class Scope(models.TextChoices):
    """What a token is for."""

    READ = "read"
    SCORES = "scores"  # attach scores to editions, and find these
    WORK = "work"


#: The role a token acts in; never more than its owner's, and for scores only where a view says so.
ROLE_OF = {Scope.READ: Role.LOOK, Scope.SCORES: Role.WORK, Scope.WORK: Role.WORK}

Needs = dict[str, Role | None]
#: What views say of themselves where the method alone does not tell, see `permissions`: questions too long for an address;
#: endings that take nothing away which anyone has made; what only those who bring things in need.
ASKING: Needs = {"POST": Role.LOOK}
ENDING: Needs = {"DELETE": Role.WORK}
FOR_WORK: Needs = {"GET": Role.WORK}
#: Open to everybody, as signing in is.
OPEN: Needs = {"POST": None}
SESSION: Needs = {"GET": None, "POST": None, "DELETE": Role.LOOK}
FOR_KEEPERS: Needs = dict.fromkeys(("GET", "POST", "PATCH", "DELETE"), Role.KEEP)
