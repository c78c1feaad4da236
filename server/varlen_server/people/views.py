"""Signing in and out, invitations, people, tokens, the log."""

from __future__ import annotations

from typing import Any, cast

from django.conf import settings
from django.contrib.auth.models import User
from drf_spectacular.utils import extend_schema
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from varlen_server.datasets.serializers import MessageSerializer
from varlen_server.people import services
from varlen_server.people.models import Invitation, LogEntry, Member, Token
from varlen_server.people.roles import ASKING, FOR_ADMINS, OPEN, SESSION, Role, Scope
from varlen_server.people.serializers import (
    AcceptSerializer,
    InvitationRequestSerializer,
    InvitationSerializer,
    InvitedSerializer,
    LogEntrySerializer,
    LogQuerySerializer,
    NewInvitationSerializer,
    NewTokenSerializer,
    PasswordSerializer,
    PersonChangeSerializer,
    PersonSerializer,
    SecretSerializer,
    SessionSerializer,
    SignInSerializer,
    TokenRequestSerializer,
    TokenSerializer,
)
from varlen_server.people.visitors import Visitor
from varlen_server.requests import body_of, query_of

_REFUSED = {400: MessageSerializer, 401: MessageSerializer, 409: MessageSerializer, 429: MessageSerializer}


class Session(APIView):
    roles = SESSION
    for_scores = ("GET",)
    throttle_scope = "sign-in"

    @extend_schema(responses=SessionSerializer, operation_id="session_get")
    def get(self, request: Request) -> Response:
        """Who is asking."""
        return _session(request.user)

    @extend_schema(request=SignInSerializer, responses={200: SessionSerializer, **_REFUSED}, operation_id="session_begin")
    def post(self, request: Request) -> Response:
        """Sign in."""
        services.must_sign_in()
        wish = body_of(request, SignInSerializer)
        user = services.sign_in(request._request, wish["name"], wish["password"])
        return _session(_as_visitor(user))

    @extend_schema(responses={200: SessionSerializer, 409: MessageSerializer}, operation_id="session_end")
    def delete(self, request: Request) -> Response:
        """Sign out."""
        services.must_sign_in()
        services.sign_out(request._request)
        return _session(None)


class Password(APIView):
    roles = ASKING
    sessions_only = True
    throttle_scope = "sign-in"

    @extend_schema(request=PasswordSerializer, responses={204: None, **_REFUSED}, operation_id="session_password")
    def post(self, request: Request) -> Response:
        """Another password for oneself; other sessions end."""
        services.must_sign_in()
        wish = body_of(request, PasswordSerializer)
        services.change_password(request._request, _person(request), wish["old"], wish["new"])
        return Response(status=204)


class InvitationList(APIView):
    roles = FOR_ADMINS

    @extend_schema(responses=InvitationSerializer(many=True), operation_id="invitations_list")
    def get(self, request: Request) -> Response:
        """Invitations, the newest first."""
        return Response(InvitationSerializer(Invitation.objects.all()[:200], many=True).data)

    @extend_schema(request=InvitationRequestSerializer, responses={201: NewInvitationSerializer, **_REFUSED}, operation_id="invitations_create")
    def post(self, request: Request) -> Response:
        """Invite somebody: the secret is told this once."""
        services.must_sign_in()
        made, secret = services.invite(Role(body_of(request, InvitationRequestSerializer)["role"]), _person(request).get_username())
        return Response({**InvitationSerializer(made).data, "secret": secret}, status=201)


class InvitationDetail(APIView):
    roles = FOR_ADMINS

    @extend_schema(responses={204: None}, operation_id="invitations_delete")
    def delete(self, request: Request, pk: int) -> Response:
        """Take an invitation back."""
        services.must_sign_in()
        get_object_or_404(Invitation, pk=pk).delete()
        return Response(status=204)


class InvitationOpen(APIView):
    roles = OPEN
    throttle_scope = "sign-in"

    @extend_schema(request=SecretSerializer, responses={200: InvitedSerializer, **_REFUSED}, operation_id="invitations_open")
    def post(self, request: Request) -> Response:
        """What an invitation is for."""
        services.must_sign_in()
        return Response(InvitedSerializer(services.invitation_of(body_of(request, SecretSerializer)["secret"])).data)


class InvitationAccept(APIView):
    roles = OPEN
    throttle_scope = "sign-in"

    @extend_schema(request=AcceptSerializer, responses={201: SessionSerializer, **_REFUSED}, operation_id="invitations_accept")
    def post(self, request: Request) -> Response:
        """Make an account by an invitation, and sign in."""
        services.must_sign_in()
        wish = body_of(request, AcceptSerializer)
        user = services.accept(request._request, wish["secret"], wish["name"], wish["password"])
        return Response(_session(_as_visitor(user)).data, status=201)


class People(APIView):
    roles = FOR_ADMINS

    @extend_schema(responses=PersonSerializer(many=True), operation_id="people_list")
    def get(self, request: Request) -> Response:
        """Everybody with an account."""
        return Response(PersonSerializer(Member.objects.select_related("user"), many=True).data)


class Person(APIView):
    roles = FOR_ADMINS

    @extend_schema(request=PersonChangeSerializer, responses={200: PersonSerializer, **_REFUSED}, operation_id="people_change")
    def patch(self, request: Request, pk: int) -> Response:
        """Give somebody another role, or shut them out or let them back in; both at once for their sessions and tokens."""
        services.must_sign_in()
        wish = body_of(request, PersonChangeSerializer)
        member = get_object_or_404(Member.objects.select_related("user"), pk=pk)
        services.change_member(member, Role(wish["role"]) if "role" in wish else None, wish["active"])
        return Response(PersonSerializer(member).data)


class TokenList(APIView):
    roles = FOR_ADMINS

    @extend_schema(responses=TokenSerializer(many=True), operation_id="tokens_list")
    def get(self, request: Request) -> Response:
        """Tokens, the newest first."""
        return Response(TokenSerializer(Token.objects.select_related("owner")[:500], many=True).data)

    @extend_schema(request=TokenRequestSerializer, responses={201: NewTokenSerializer, **_REFUSED}, operation_id="tokens_create")
    def post(self, request: Request) -> Response:
        """A token for a program: it is told this once."""
        services.must_sign_in()
        wish = body_of(request, TokenRequestSerializer)
        made, secret = services.new_token(_person(request), wish["name"], Scope(wish["scope"]), wish["days"])
        return Response({**TokenSerializer(made).data, "secret": secret}, status=201)


class TokenDetail(APIView):
    roles = FOR_ADMINS

    @extend_schema(responses=TokenSerializer, operation_id="tokens_revoke")
    def delete(self, request: Request, pk: int) -> Response:
        """Revoke a token; it stays in the list."""
        services.must_sign_in()
        token = get_object_or_404(Token.objects.select_related("owner"), pk=pk)
        services.revoke(token)
        return Response(TokenSerializer(token).data)


class Log(APIView):
    roles = FOR_ADMINS

    @extend_schema(parameters=[LogQuerySerializer], responses=LogEntrySerializer(many=True), operation_id="log_list")
    def get(self, request: Request) -> Response:
        """Who did what, the newest first."""
        wish = query_of(request, LogQuerySerializer)
        entries = LogEntry.objects.all()
        if "before" in wish:
            entries = entries.filter(pk__lt=wish["before"])
        if wish["who"]:
            entries = entries.filter(who=wish["who"])
        return Response(LogEntrySerializer(entries[: wish["count"]], many=True).data)


def _session(visitor: Any) -> Response:
    known = isinstance(visitor, Visitor)
    return Response({"sign_in": settings.SIGN_IN, "name": visitor.name if known else "", "role": str(visitor.role) if known else ""})


def _as_visitor(user: User) -> Visitor:
    return Visitor(user.get_username(), Role(Member.objects.get(user=user).role), user)


def _person(request: Request) -> User:
    """The account behind a request that a role let in where people sign in."""
    return cast(User, cast(Visitor, request.user).user)
