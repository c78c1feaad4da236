"""People's roles, invitations, tokens, and the log."""

from __future__ import annotations

import hashlib
import secrets
from datetime import datetime
from typing import Any

from django.contrib.auth.models import User
from django.db import models
from django.utils import timezone

from varlen_server.people.names import look_of
from varlen_server.people.roles import Role, Scope


def new_secret() -> str:
    """256 random bits for a link or a token."""
    return secrets.token_urlsafe(32)


def digest_of(secret: str) -> str:
    """What is kept of a secret: enough to know it again. A fast hash, as nobody guesses 256 bits."""
    return hashlib.sha256(secret.encode("utf-8", "surrogatepass")).hexdigest()


class Member(models.Model):
    """A person's role."""

    user = models.OneToOneField(User, on_delete=models.CASCADE, related_name="member")
    role = models.CharField(max_length=8, choices=Role.choices, default=Role.VIEWER)
    #: What the name looks like; unique, so that of two who take names that look alike at the same moment one is refused.
    look = models.CharField(max_length=3000, unique=True)

    class Meta:
        ordering = ("user__username",)

    def __str__(self) -> str:
        return f"{self.user.username}: {self.role}"

    def save(self, *arguments: Any, **options: Any) -> None:
        """Keep it, with the look of its name."""
        self.look = self.look or look_of(self.user.username)
        super().save(*arguments, **options)


class Invitation(models.Model):
    """A link by which one person makes an account; of its secret only the digest is kept."""

    digest = models.CharField(max_length=64, unique=True)
    role = models.CharField(max_length=8, choices=Role.choices, default=Role.VIEWER)
    made_by = models.CharField(max_length=150, default="")
    created = models.DateTimeField(auto_now_add=True)
    expires = models.DateTimeField()
    used = models.DateTimeField(null=True)
    used_by = models.CharField(max_length=150, default="")

    class Meta:
        ordering = ("-id",)

    def __str__(self) -> str:
        return f"invitation {self.pk}: {self.role}"

    @property
    def open(self) -> bool:
        """Whether somebody can still use it."""
        return self.used is None and self.expires > timezone.now()


class Token(models.Model):
    """What a program signs in with; of its secret only the digest is kept."""

    name = models.CharField(max_length=80)
    owner = models.ForeignKey(User, on_delete=models.CASCADE, related_name="tokens")
    scope = models.CharField(max_length=8, choices=Scope.choices)
    digest = models.CharField(max_length=64, unique=True)
    created = models.DateTimeField(auto_now_add=True)
    expires = models.DateTimeField()
    last_used: models.DateTimeField[datetime | None, datetime | None] = models.DateTimeField(null=True)
    revoked = models.DateTimeField(null=True)

    class Meta:
        ordering = ("-id",)

    def __str__(self) -> str:
        return self.name


class LogEntry(models.Model):
    """One line of who did what."""

    at = models.DateTimeField(auto_now_add=True, db_index=True)
    who = models.CharField(max_length=150, default="")
    did = models.CharField(max_length=40)
    what = models.CharField(max_length=300, default="")
    address = models.CharField(max_length=64, default="")
    request = models.CharField(max_length=40, default="")

    class Meta:
        ordering = ("-id",)

    def __str__(self) -> str:
        return f"{self.who} {self.did} {self.what}"
