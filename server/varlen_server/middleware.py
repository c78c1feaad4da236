"""What every request has to be: text, and from this server's own pages where it changes something."""

from __future__ import annotations

from collections.abc import Callable
from urllib.parse import unquote, urlsplit

from django.http import HttpRequest, HttpResponse, JsonResponse

SAFE = ("GET", "HEAD", "OPTIONS")


class PlainTextMiddleware:
    """Refuse addresses with a NUL in them: no name, path or word that is looked up can hold one."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        if "\0" in unquote(request.get_full_path()):
            return JsonResponse({"message": "The address holds a NUL character.", "problems": ["The address holds a NUL character."]}, status=400)
        return self.get_response(request)


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
