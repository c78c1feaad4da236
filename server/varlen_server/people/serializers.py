"""Sessions, people, invitations, tokens and the log in the API."""

from __future__ import annotations

from typing import Any

from rest_framework import serializers

from varlen_server.people.models import Invitation, LogEntry, Member, Token
from varlen_server.people.roles import OLD_SCOPES, OLD_WORDS, Role, Scope


class RoleField(serializers.ChoiceField):
    """A role; the words of version 0.1 are understood, too."""

    def __init__(self, **options: Any) -> None:
        super().__init__(choices=Role.choices, **options)

    def to_internal_value(self, data: Any) -> Any:
        return super().to_internal_value(OLD_WORDS.get(data, data) if isinstance(data, str) else data)


class ScopeField(serializers.ChoiceField):
    """What a token is for; the words of version 0.1 are understood, too."""

    def __init__(self, **options: Any) -> None:
        super().__init__(choices=Scope.choices, **options)

    def to_internal_value(self, data: Any) -> Any:
        return super().to_internal_value(OLD_SCOPES.get(data, data) if isinstance(data, str) else data)


class SessionSerializer(serializers.Serializer):
    """Who is asking. sign_in: whether this Varlen has accounts; role: "" for nobody."""

    sign_in = serializers.BooleanField()
    name = serializers.CharField(allow_blank=True)
    role = serializers.ChoiceField(choices=["", *Role.values])


class SignInSerializer(serializers.Serializer):
    name = serializers.CharField(max_length=150)
    password = serializers.CharField(max_length=1000, trim_whitespace=False)


class PasswordSerializer(serializers.Serializer):
    old = serializers.CharField(max_length=1000, trim_whitespace=False)
    new = serializers.CharField(max_length=1000, trim_whitespace=False)


class SecretSerializer(serializers.Serializer):
    secret = serializers.CharField(max_length=200)


class AcceptSerializer(SecretSerializer, SignInSerializer):
    """An invitation taken up: its secret, and the new account's name and password."""


class InvitedSerializer(serializers.Serializer):
    role = RoleField()
    made_by = serializers.CharField(allow_blank=True)
    expires = serializers.DateTimeField()


class PersonSerializer(serializers.ModelSerializer):
    name = serializers.CharField(source="user.username")
    active = serializers.BooleanField(source="user.is_active")
    joined = serializers.DateTimeField(source="user.date_joined")
    last_signed_in = serializers.DateTimeField(source="user.last_login", allow_null=True)

    class Meta:
        model = Member
        fields = ("id", "name", "role", "active", "joined", "last_signed_in")


class PersonChangeSerializer(serializers.Serializer):
    role = RoleField(required=False)
    active = serializers.BooleanField(required=False, allow_null=True, default=None)


class InvitationRequestSerializer(serializers.Serializer):
    role = RoleField()


class InvitationSerializer(serializers.ModelSerializer):
    open = serializers.BooleanField()

    class Meta:
        model = Invitation
        fields = ("id", "role", "made_by", "created", "expires", "used", "used_by", "open")


class NewInvitationSerializer(InvitationSerializer):
    """secret: shown once; the link is /join# and this."""

    secret = serializers.CharField()

    class Meta(InvitationSerializer.Meta):
        fields = (*InvitationSerializer.Meta.fields, "secret")  # type: ignore[assignment]


class TokenRequestSerializer(serializers.Serializer):
    name = serializers.CharField(max_length=80)
    scope = ScopeField()
    days = serializers.IntegerField(min_value=1, max_value=3650, default=90)


class TokenSerializer(serializers.ModelSerializer):
    owner = serializers.CharField(source="owner.username")

    class Meta:
        model = Token
        fields = ("id", "name", "owner", "scope", "created", "expires", "last_used", "revoked")


class NewTokenSerializer(TokenSerializer):
    """secret: the token itself, shown once."""

    secret = serializers.CharField()

    class Meta(TokenSerializer.Meta):
        fields = (*TokenSerializer.Meta.fields, "secret")  # type: ignore[assignment]


class LogQuerySerializer(serializers.Serializer):
    """before: an entry's id, for the page that follows it."""

    before = serializers.IntegerField(required=False, min_value=1, max_value=2**62)
    who = serializers.CharField(required=False, allow_blank=True, default="", max_length=150)
    count = serializers.IntegerField(default=100, min_value=1, max_value=500)


class LogEntrySerializer(serializers.ModelSerializer):
    class Meta:
        model = LogEntry
        fields = ("id", "at", "who", "did", "what", "address", "request")
