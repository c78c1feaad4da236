"""Accounts, invitations, tokens: made, used, changed, ended."""

from __future__ import annotations

from datetime import timedelta

from django.conf import settings
from django.contrib.auth import authenticate, get_user, login, logout, update_session_auth_hash
from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.contrib.auth.validators import UnicodeUsernameValidator
from django.core.exceptions import ValidationError as Invalid
from django.db import IntegrityError, transaction
from django.http import HttpRequest
from django.utils import timezone
from rest_framework.exceptions import APIException, ValidationError

from varlen_server.errors import Conflict
from varlen_server.people.log import note
from varlen_server.people.models import Invitation, Member, Token, digest_of, new_secret
from varlen_server.people.roles import Role, Scope

#: How long an invitation can be used; the first account's link less, as it may do everything.
INVITED, FIRST = timedelta(days=7), timedelta(hours=24)
NO_INVITATION = "This invitation was used, has expired or was never made; ask for another."


class NotSignedIn(APIException):
    status_code = 401
    default_detail = "Name or password is not right."


class TooManyAttempts(APIException):
    status_code = 429
    default_detail = "Too many attempts: wait a quarter of an hour, or ask an admin."


def must_sign_in() -> None:
    """Raises `Conflict` where nobody signs in: accounts would promise a protection that is not there."""
    if not settings.SIGN_IN:
        raise Conflict("This Varlen is for whoever uses this machine: nobody signs in. 'make serve' starts one with accounts.")


def sign_in(request: HttpRequest, name: str, password: str) -> User:
    """Begin a session under a new key. Raises `NotSignedIn`, `TooManyAttempts`."""
    user = authenticate(request, username=name, password=password)
    if user is None:
        note("could not sign in", "", who=name)
        raise TooManyAttempts if getattr(request, "axes_locked_out", False) else NotSignedIn
    _begin_session(request, user)
    return user


def _begin_session(request: HttpRequest, user: User) -> None:
    # What a session knew before belongs to whoever had it.
    request.session.flush()
    login(request, user, backend="django.contrib.auth.backends.ModelBackend")
    note("signed in", "", who=user.get_username())


def sign_out(request: HttpRequest) -> None:
    """End the session."""
    note("signed out", "")
    request.user = get_user(request)
    logout(request)


def invite(role: Role, made_by: str, lasting: timedelta = INVITED) -> tuple[Invitation, str]:
    """An invitation and its secret, which is told this once."""
    secret = new_secret()
    made = Invitation.objects.create(digest=digest_of(secret), role=role, made_by=made_by, expires=timezone.now() + lasting)
    note("invited", f"somebody who may {role} (link {made.pk})")
    return made, secret


def first_link_secret() -> str | None:
    """The secret by which the first admin comes in; None once there is one. Links printed before are no longer valid."""
    if Member.objects.filter(role=Role.ADMIN, user__is_active=True).exists():
        return None
    with transaction.atomic():
        Invitation.objects.filter(made_by="", used=None).delete()
        return invite(Role.ADMIN, "", FIRST)[1]


def invitation_of(secret: str) -> Invitation:
    """An invitation that can be used. Raises `ValidationError`."""
    found = Invitation.objects.filter(digest=digest_of(secret)).first()
    if found is None or not found.open:
        raise ValidationError(NO_INVITATION)
    return found


def accept(request: HttpRequest, secret: str, name: str, password: str) -> User:
    """Make an account by an invitation, once, and sign in. Raises `ValidationError` naming all that is wrong."""
    with transaction.atomic():
        # Locked, so that of two who use the link at once the second finds it used.
        invitation = Invitation.objects.select_for_update().filter(digest=digest_of(secret)).first()
        if invitation is None or not invitation.open:
            raise ValidationError(NO_INVITATION)
        user = _new_user(name, password)
        Member.objects.create(user=user, role=invitation.role)
        invitation.used, invitation.used_by = timezone.now(), user.get_username()
        invitation.save(update_fields=["used", "used_by"])
        note("joined", f"as {invitation.role}", who=user.get_username())
    _begin_session(request, user)
    return user


def _new_user(name: str, password: str) -> User:
    name = User.normalize_username(name.strip())
    user = User(username=name)
    try:
        UnicodeUsernameValidator()(name)
        validate_password(password, user)
    except Invalid as error:
        raise ValidationError(error.messages) from None
    # Names that differ in case alone would be mistaken for each other.
    if User.objects.filter(username__iexact=name).exists():
        raise ValidationError("This name is taken.")
    user.set_password(password)
    try:
        with transaction.atomic():
            user.save()
    except IntegrityError:
        raise ValidationError("This name is taken.") from None
    return user


def change_password(request: HttpRequest, user: User, old: str, new: str) -> None:
    """Another password; every other session of this person ends. Raises `ValidationError`."""
    if not user.check_password(old):
        raise ValidationError("The old password is not right.")
    try:
        validate_password(new, user)
    except Invalid as error:
        raise ValidationError(error.messages) from None
    user.set_password(new)
    user.save(update_fields=["password"])
    request.user = user
    update_session_auth_hash(request, user)
    note("changed the password", "")


def change_member(member: Member, role: Role | None, active: bool | None) -> None:
    """Another role, or leave or return. Raises `Conflict` where no admin would be left."""
    with transaction.atomic():
        admins = set(Member.objects.select_for_update().filter(role=Role.ADMIN, user__is_active=True).values_list("pk", flat=True))
        goes = (role is not None and role != Role.ADMIN) or active is False
        if admins == {member.pk} and goes:
            raise Conflict("Nobody would be left to see to people: make another admin first.")
        name = member.user.get_username()
        if role is not None and role != member.role:
            member.role = role
            member.save(update_fields=["role"])
            note("changed", f"person {name}: {role}")
        if active is not None and active != member.user.is_active:
            member.user.is_active = active
            member.user.save(update_fields=["is_active"])
            note("let back in" if active else "shut out", f"person {name}")


def new_token(owner: User, name: str, scope: Scope, days: int) -> tuple[Token, str]:
    """A token and its secret, which is told this once."""
    secret = f"varlen_{new_secret()}"
    made = Token.objects.create(name=name, owner=owner, scope=scope, digest=digest_of(secret), expires=timezone.now() + timedelta(days=days))
    note("made", f"token {made.pk}: {name}, {scope}, until {made.expires:%d %b %Y}")
    return made, secret


def revoke(token: Token) -> None:
    """From now on the token is refused."""
    if token.revoked is None:
        token.revoked = timezone.now()
        token.save(update_fields=["revoked"])
        note("revoked", f"token {token.pk}: {token.name}")
