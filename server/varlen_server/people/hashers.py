"""How passwords are kept."""

from __future__ import annotations

from django.contrib.auth.hashers import Argon2PasswordHasher


class PasswordHasher(Argon2PasswordHasher):
    """Argon2id with 19 MiB, two passes, one lane: the least that the OWASP password storage cheat sheet recommends.

    A guess costs about as much as drawing a few tiles, so that a team that signs in at once keeps nobody waiting.
    """

    time_cost = 2
    memory_cost = 19 * 1024
    parallelism = 1
