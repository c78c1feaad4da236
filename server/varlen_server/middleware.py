"""What browsers are told to refuse on our behalf."""

from __future__ import annotations

import re
import secrets
from collections.abc import Callable
from urllib.parse import parse_qsl, unquote, urlsplit

from django.conf import settings
from django.http import HttpRequest, HttpResponse

from varlen_server.authorship import Visit, visiting
from varlen_server.errors import NO_PLACE, not_here, plain_answer
from varlen_server.people.visitors import SECRET_WORDS, Refused, visitor_of
from varlen_server.requests import address_of

#: Nothing a page of ours would ask for.
PERMISSIONS = ", ".join(f"{name}=()" for name in ("camera", "microphone", "geolocation", "payment", "usb", "serial", "midi", "display-capture"))
#: For answers that are no pages: they load nothing, whatever a browser takes them for.
DATA_ONLY = "default-src 'none'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'"


def policy(nonce: str) -> str:
    """The Content-Security-Policy of a page where people sign in: its own files alone, and no script but those and what bears the nonce.

    Styles may stand in the page, as the components write theirs there; pictures may be data and blobs, as tiles are.
    """
    return (
        f"default-src 'none'; script-src 'self' 'nonce-{nonce}'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; "
        "font-src 'self' data:; connect-src 'self'; worker-src 'self' blob:; manifest-src 'self'; "
        "base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
    )


#: The same where nobody signs in: there are no others' sessions to take, and tools that bring scripts along may look at the page.
OWN_PAGE = "object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"


class HeadersMiddleware:
    """Gives every answer its headers; `request.nonce` is for the scripts of a page."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        request.nonce = nonce = secrets.token_urlsafe(16)  # type: ignore[attr-defined]
        answer = self.get_response(request)
        page = answer.get("Content-Type", "").startswith("text/html")
        answer.setdefault("Content-Security-Policy", (policy(nonce) if settings.SIGN_IN else OWN_PAGE) if page else DATA_ONLY)
        answer.setdefault("Permissions-Policy", PERMISSIONS)
        answer.setdefault("Cross-Origin-Resource-Policy", "same-origin")
        kept = answer.get("Cache-Control", "")
        if settings.SIGN_IN and kept.startswith("public") and request.path.startswith("/api/"):
            # What one may see another may not: no cache between keeps it.
            answer["Cache-Control"] = kept.replace("public", "private", 1)
        elif settings.SIGN_IN and request.path.startswith("/api/") and not kept:
            answer["Cache-Control"] = "no-store"
        return answer


SAFE = ("GET", "HEAD", "OPTIONS")
#: Where files are uploaded; everywhere else a body is a few labels at most.
_UPLOADS = re.compile(r"/api/imports/\d+/files")
Answer = Callable[[HttpRequest], HttpResponse]


class PlainTextMiddleware:
    """Refuse addresses with a NUL in them: no name, path or word that is looked up can hold one."""

    def __init__(self, get_response: Answer) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        if "\0" in unquote(request.get_full_path()):
            return plain_answer("The address holds a NUL character.", 400)
        return self.get_response(request)


class NoSecretInAddressMiddleware:
    """Refuse tokens and passwords in addresses: these end in logs, histories and other sites' statistics."""

    def __init__(self, get_response: Answer) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        query = request.META.get("QUERY_STRING", "")
        if query and any(name.lower() in SECRET_WORDS for name, _ in parse_qsl(query, keep_blank_values=True)):
            return plain_answer("A token does not belong in an address: send it as 'Authorization: Bearer TOKEN', and make a new one.", 400)
        return self.get_response(request)


class BodyLimitMiddleware:
    """Refuse what is too large before any of it is read."""

    def __init__(self, get_response: Answer) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        limit = settings.LARGEST_UPLOAD if _UPLOADS.fullmatch(request.path) else settings.DATA_UPLOAD_MAX_MEMORY_SIZE
        length = request.META.get("CONTENT_LENGTH") or "0"
        if length.isdigit() and int(length) > limit:
            return plain_answer(f"This is too large: at most {limit >> 20} MB are taken here.", 413)
        return self.get_response(request)


class SameOriginMiddleware:
    """Refuse changes asked for by another site's page.

    Browsers name the page's origin with every request that changes something; it must be this
    server. Programs name none and are let through, unless they come with a browser's cookie:
    then somebody's page must be named. Together with the check of the Host header and the
    cookie's SameSite this is the protection against forged requests, with no token to carry around.
    """

    def __init__(self, get_response: Answer) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        if request.method in SAFE:
            return self.get_response(request)
        origin, site = request.headers.get("Origin"), request.headers.get("Sec-Fetch-Site")
        crossing = site in ("cross-site", "same-site")
        if crossing or (origin is not None and urlsplit(origin).netloc != request.get_host()):
            return plain_answer("This request comes from another site's page; refused.", 403)
        if settings.SIGN_IN and settings.SESSION_COOKIE_NAME in request.COOKIES and origin is None and site is None:
            return plain_answer("A request with a browser's session must say which page it comes from; programs use a token.", 403)
        return self.get_response(request)


class NamesMiddleware:
    """An address or a name that no file can have leads nowhere, whichever view finds out."""

    def __init__(self, get_response: Answer) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        return self.get_response(request)

    def process_exception(self, request: HttpRequest, exception: Exception) -> HttpResponse | None:
        """404 in place of a fault of ours."""
        return not_here(request) if isinstance(exception, OSError) and exception.errno in NO_PLACE else None


class VisitorMiddleware:
    """Find out who asks; views decide what that one may do."""

    def __init__(self, get_response: Answer) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        request.visitor = request.refused = None  # type: ignore[attr-defined]
        try:
            request.visitor = visitor = visitor_of(request)  # type: ignore[attr-defined]
        except Refused as refused:
            request.refused, visitor = refused, None  # type: ignore[attr-defined]
        with visiting(Visit(visitor.name if visitor else "", address_of(request), getattr(request, "request_id", ""))):
            return self.get_response(request)
