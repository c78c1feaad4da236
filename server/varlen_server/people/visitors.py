"""Who a request comes from: by session, by token, or, where nobody signs in, whoever uses this machine."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta

from django.conf import settings
from django.contrib.auth import get_user
from django.contrib.auth.models import User
from django.http import HttpRequest
from django.utils import timezone

from varlen_server.people.models import Member, Token, digest_of
from varlen_server.people.roles import ROLE_OF, Role, Scope

#: A token's last use is written down no more often.
NOTED = timedelta(minutes=1)
#: Words of a query string that would carry a secret into logs and histories.
SECRET_WORDS = ("token", "access_token", "api_key", "authorization", "password")


@dataclass(frozen=True, slots=True)
class Visitor:
    """Someone who may do something. scope: of a program's token, None of a person."""

    name: str
    role: Role
    user: User | None = None
    scope: Scope | None = None

    #: REST framework asks this of every visitor.
    is_authenticated = True


class Refused(Exception):
    """Who asks is not let in; the message says why."""


def visitor_of(request: HttpRequest) -> Visitor | None:
    """Who a request comes from, None for nobody we know. Raises `Refused` for a token that is not valid (any more)."""
    if not settings.SIGN_IN:
        return Visitor("", Role.ADMIN)
    header = request.headers.get("Authorization", "")
    if header:
        return _by_token(header)
    user = get_user(request)
    return _person(user) if isinstance(user, User) else None


def _person(user: User) -> Visitor | None:
    member = Member.objects.filter(user=user).first()
    return Visitor(user.get_username(), Role(member.role), user) if member is not None and user.is_active else None


def _by_token(header: str) -> Visitor:
    kind, _, secret = header.partition(" ")
    if kind.lower() != "bearer" or not secret.strip():
        raise Refused("Programs sign in with 'Authorization: Bearer TOKEN'.")
    token = Token.objects.select_related("owner__member").filter(digest=digest_of(secret.strip())).first()
    if token is None or not token.owner.is_active or not hasattr(token.owner, "member"):
        raise Refused("This token is not known here.")
    now = timezone.now()
    if token.revoked is not None:
        raise Refused("This token was revoked.")
    if token.expires <= now:
        raise Refused("This token has expired.")
    if token.last_used is None or now - token.last_used > NOTED:
        Token.objects.filter(pk=token.pk).update(last_used=now)
    scope, owner = Scope(token.scope), Role(token.owner.member.role)
    role = ROLE_OF[scope] if owner.covers(ROLE_OF[scope]) else owner
    return Visitor(f"{token.owner.get_username()} ({token.name})", role, token.owner, scope)
