"""What browsers are told to refuse on our behalf."""

from __future__ import annotations

import secrets
from collections.abc import Callable

from django.conf import settings
from django.http import HttpRequest, HttpResponse

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
