"""What a person may do, and what a token may."""

from __future__ import annotations

from django.db import models


class Role(models.TextChoices):
    """Each may do all that those before it may."""

    VIEWER = "viewer"
    EDITOR = "editor"  # pipelines, datasets, editions
    ADMIN = "admin"  # people, tokens, deletion, the log

    def covers(self, needed: Role) -> bool:
        """Whether this role is enough where `needed` is."""
        order = list(Role)
        return order.index(self) >= order.index(needed)


class Scope(models.TextChoices):
    """What a token is for."""

    READ = "read"
    SCORES = "scores"  # attach scores to editions, and find these
    WRITE = "write"


#: What version 0.1 called them; still understood in requests, until 2.0.
OLD_WORDS = {"look": Role.VIEWER, "work": Role.EDITOR, "keep": Role.ADMIN}
OLD_SCOPES = {"work": Scope.WRITE}


#: The role a token acts in; never more than its owner's, and for scores only where a view says so.
ROLE_OF = {Scope.READ: Role.VIEWER, Scope.SCORES: Role.EDITOR, Scope.WRITE: Role.EDITOR}

Needs = dict[str, Role | None]
#: What views say of themselves where the method alone does not tell, see `permissions`: questions too long for an address;
#: endings that take nothing away which anyone has made; what only those who bring things in need.
ASKING: Needs = {"POST": Role.VIEWER}
ENDING: Needs = {"DELETE": Role.EDITOR}
FOR_EDITORS: Needs = {"GET": Role.EDITOR}
#: Open to everybody, as signing in is.
OPEN: Needs = {"POST": None}
SESSION: Needs = {"GET": None, "POST": None, "DELETE": Role.VIEWER}
FOR_ADMINS: Needs = dict.fromkeys(("GET", "POST", "PATCH", "DELETE"), Role.ADMIN)
