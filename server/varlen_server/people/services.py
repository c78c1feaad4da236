"""The log of who did what: kept in the database, written beside what it tells of."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from django.conf import settings
from django.contrib.auth import SESSION_KEY, authenticate, get_user, login, logout, update_session_auth_hash
from django.contrib.auth.hashers import Argon2PasswordHasher
from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.contrib.auth.validators import UnicodeUsernameValidator
from django.contrib.sessions.models import Session
from django.core.exceptions import ValidationError as Invalid
from django.db import IntegrityError, transaction
from django.db.models import Model
from django.db.models.signals import post_delete, post_save
from django.http import HttpRequest
from django.utils import timezone
from rest_framework.exceptions import APIException, ValidationError

from varlen_server.authorship import current
from varlen_server.datasets.models import Dataset, DatasetImport
from varlen_server.editions.models import Edition
from varlen_server.errors import Conflict
from varlen_server.evidence.models import Inquiry
from varlen_server.people.models import Invitation, LogEntry, Member, Token, digest_of, new_secret
from varlen_server.people.names import check_look
from varlen_server.people.roles import Role, Scope
from varlen_server.pipelines.models import Pipeline, Revision

#: What is written down of itself, and how it is called.
NAMES: dict[type[Model], str] = {
    Dataset: "dataset", DatasetImport: "import", Pipeline: "pipeline", Revision: "revision", Edition: "edition", Inquiry: "inquiry",
}  # fmt: skip
_LONGEST = 300


def note(did: str, what: str, who: str | None = None) -> None:
    """Write a line into the log. who: where the visit's own name is not meant, as of one who could not sign in."""
    visit = current()
    name = who if who is not None else (visit.who if visit else "")
    LogEntry.objects.create(who=_kept(name, 150), did=did, what=_kept(what, _LONGEST), address=visit.address if visit else "",
                            request=visit.request if visit else "")  # fmt: skip


def _kept(text: str, longest: int) -> str:
    """Text that the database takes: no NUL, not too long."""
    return text.replace("\0", "")[:longest]


def _called(thing: Any) -> str:
    return f"{NAMES[type(thing)]} {thing.pk}: {thing}"


def _saved(sender: type[Model], instance: Any, created: bool, **_: object) -> None:
    # A pipeline is changed by a revision, which is written down by itself; an import is a dataset in the end.
    if current() is None or (sender in (Pipeline, DatasetImport) and not created):
        return
    note("made" if created else "changed", _called(instance))


def _deleted(sender: type[Model], instance: Any, **_: object) -> None:
    # Revisions go with their pipeline.
    if current() is not None and sender is not Revision:
        note("deleted", _called(instance))


def begin() -> None:
    """From now on, what is made, changed and deleted in answer to a request is written down."""
    for model in NAMES:
        post_save.connect(_saved, sender=model, dispatch_uid=f"log-saved-{model.__name__}")
        post_delete.connect(_deleted, sender=model, dispatch_uid=f"log-deleted-{model.__name__}")


#: How long an invitation can be used; the first account's link less, as it may do everything.
INVITED, FIRST = timedelta(days=7), timedelta(hours=24)
#: People for whom one address may fail to sign in within a quarter of an hour.
MOST_NAMES = 20
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
    if _tries_many_names():
        raise TooManyAttempts
    user = authenticate(request, username=name, password=password)
    if user is None:
        note("could not sign in", "", who=name)
        raise TooManyAttempts if getattr(request, "axes_locked_out", False) else NotSignedIn
    _begin_session(request, user)
    return user


def _tries_many_names() -> bool:
    """Whether one address guesses at person after person, each too seldom to be shut out."""
    visit = current()
    since = timezone.now() - settings.AXES_COOLOFF_TIME
    lately = LogEntry.objects.filter(did="could not sign in", address=visit.address if visit else "", at__gt=since)
    return lately.values("who").distinct().count() >= MOST_NAMES


def _begin_session(request: HttpRequest, user: User) -> None:
    # What a session knew before belongs to its earlier owner.
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
    """The secret by which the first admin makes an account; None once there is one. Links printed before are no longer valid."""
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
        user = _new_user(name, password, invitation.role)
        invitation.used, invitation.used_by = timezone.now(), user.get_username()
        invitation.save(update_fields=["used", "used_by"])
        note("joined", f"as {invitation.role}", who=user.get_username())
    _begin_session(request, user)
    return user


def _new_user(name: str, password: str, role: str) -> User:
    name = User.normalize_username(name.strip())
    user = User(username=name)
    try:
        UnicodeUsernameValidator()(name)
        check_look(name)
        validate_password(password, user)
    except Invalid as error:
        raise ValidationError(error.messages) from None
    user.set_password(password)
    try:
        with transaction.atomic():
            user.save()
            Member.objects.create(user=user, role=role)  # which no two names that look alike get
    except IntegrityError:
        raise ValidationError("This name is taken.") from None
    return user


def change_password(request: HttpRequest, user: User, old: str, new: str) -> None:
    """Another password; every other session, every token and open invitation of this person ends. A wrong old one counts as an attempt to sign in.

    Raises `ValidationError`, `TooManyAttempts`.
    """
    if authenticate(request, username=user.get_username(), password=old) is None:
        note("could not change the password", "")
        if getattr(request, "axes_locked_out", False):
            raise TooManyAttempts
        raise ValidationError("The old password is not right.")
    try:
        validate_password(new, user)
    except Invalid as error:
        raise ValidationError(error.messages) from None
    user.set_password(new)
    user.save(update_fields=["password"])
    request.user = user
    update_session_auth_hash(request, user)
    _end_all_of(user, but=request.session.session_key)
    note("changed the password", "")


def _end_all_of(user: User, but: str | None = None) -> None:
    """End a person's sessions, tokens and unused invitations, for good: they do not come back with the person. but: a session that stays."""
    for session in Session.objects.filter(expire_date__gt=timezone.now()):
        if session.session_key != but and session.get_decoded().get(SESSION_KEY) == str(user.pk):
            session.delete()
    Token.objects.filter(owner=user, revoked=None).update(revoked=timezone.now())
    Invitation.objects.filter(made_by=user.get_username(), used=None).delete()


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
            if not active:
                _end_all_of(member.user)
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


class PasswordHasher(Argon2PasswordHasher):
    """Argon2id with 19 MiB, two passes, one lane: the least that the OWASP password storage cheat sheet recommends.

    A guess costs about as much as drawing a few tiles, so that a whole team can sign in at once.
    """

    time_cost = 2
    memory_cost = 19 * 1024
    parallelism = 1
