"""Only this server's own pages may change anything."""

from __future__ import annotations

from collections.abc import Callable
from urllib.parse import urlsplit

from django.http import HttpRequest, HttpResponse, JsonResponse

SAFE = ("GET", "HEAD", "OPTIONS")


class SameOriginMiddleware:
    """Refuse changes asked for by another site's page.

    Browsers name the page's origin with every request that changes something; it must be
    this server. Programs name none and are let through. Together with the check of the Host
    header this is the protection against forged requests, with no token to carry around.
    """

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        origin = request.headers.get("Origin")
        crossing = request.headers.get("Sec-Fetch-Site") in ("cross-site", "same-site")
        if request.method not in SAFE and (crossing or (origin is not None and urlsplit(origin).netloc != request.get_host())):
            return JsonResponse({"message": "This request comes from another site's page; refused."}, status=403)
        return self.get_response(request)
