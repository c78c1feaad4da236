"""Who may ask what: by a view's `roles`, else by the request's method."""

from __future__ import annotations

import hashlib
from typing import TYPE_CHECKING, Any

from django.conf import settings
from rest_framework.authentication import BaseAuthentication
from rest_framework.exceptions import AuthenticationFailed, PermissionDenied
from rest_framework.permissions import BasePermission
from rest_framework.request import Request
from rest_framework.throttling import ScopedRateThrottle

from varlen_server.people.roles import Needs, Role, Scope
from varlen_server.people.visitors import Refused, Visitor
from varlen_server.requests import address_of

if TYPE_CHECKING:
    from rest_framework.views import APIView


#: What a method needs where a view says nothing else. Deleting is for admins.
USUALLY = {
    "GET": Role.VIEWER,
    "HEAD": Role.VIEWER,
    "OPTIONS": Role.VIEWER,
    "POST": Role.EDITOR,
    "PUT": Role.EDITOR,
    "PATCH": Role.EDITOR,
    "DELETE": Role.ADMIN,
}
_MAY = {
    Role.VIEWER: "may look at everything and change nothing",
    Role.EDITOR: "may work with pipelines, datasets and editions, but not delete them or see to people",
    Role.ADMIN: "may do everything",
}


class VisitorAuthentication(BaseAuthentication):
    """Hands on whom the middleware found."""

    def authenticate(self, request: Request) -> tuple[Visitor, None] | None:
        refused = getattr(request._request, "refused", None)
        if isinstance(refused, Refused):
            raise AuthenticationFailed(str(refused))
        visitor = getattr(request._request, "visitor", None)
        return None if visitor is None else (visitor, None)

    def authenticate_header(self, request: Request) -> str:
        return "Bearer"


class RolePermission(BasePermission):
    """A view may say `roles = ASKING`, and `for_scores = ("GET",)` for what a token for scores may ask."""

    def has_permission(self, request: Request, view: APIView) -> bool:
        method = request.method or "GET"
        roles: Needs = getattr(view, "roles", {})
        needed = roles.get(method, USUALLY.get(method, Role.ADMIN))
        if needed is None:
            return True
        visitor: Any = request.user
        if not isinstance(visitor, Visitor):
            return False
        if visitor.scope is not None and getattr(view, "sessions_only", False):
            raise PermissionDenied("This is for the person, not for a token: sign in with a browser.")
        if visitor.scope is not None and not _in_scope(visitor.scope, method, needed, view):
            raise PermissionDenied(f"A token for “{visitor.scope}” can't do this.")
        if not visitor.role.covers(needed):
            raise PermissionDenied(f"Your role is “{visitor.role}”: it {_MAY[visitor.role]}. This needs “{needed}”.")
        return True


def _in_scope(scope: Scope, method: str, needed: Role, view: APIView) -> bool:
    if scope == Scope.SCORES:
        return method in getattr(view, "for_scores", ())
    return needed != Role.ADMIN and (scope == Scope.WRITE or needed == Role.VIEWER)


class VisitorThrottle(ScopedRateThrottle):
    """Counts views with a `throttle_scope`; only where people sign in."""

    def allow_request(self, request: Request, view: APIView) -> bool:
        if not settings.SIGN_IN or request.method in ("GET", "HEAD", "OPTIONS"):
            return True
        return super().allow_request(request, view)

    def get_cache_key(self, request: Request, view: APIView) -> str:
        visitor: Any = request.user
        who = visitor.name if isinstance(visitor, Visitor) else address_of(request._request)
        return self.cache_format % {"scope": self.scope, "ident": hashlib.sha256(who.encode()).hexdigest()[:32]}
