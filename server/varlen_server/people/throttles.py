"""How often the expensive things may be asked for, by person or, for whoever has not signed in, by address. Each web process counts its own."""

from __future__ import annotations

import hashlib
from typing import TYPE_CHECKING, Any

from django.conf import settings
from rest_framework.request import Request
from rest_framework.throttling import ScopedRateThrottle

from varlen_server.people.visitors import Visitor
from varlen_server.requests import address_of

if TYPE_CHECKING:
    from rest_framework.views import APIView


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
