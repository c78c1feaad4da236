"""Every request with an id, a line in the log and a place in the metrics."""

from __future__ import annotations

import json
import logging
import re
import secrets
import time
from collections.abc import Callable
from datetime import UTC, datetime

from django.http import HttpRequest, HttpResponse

from varlen_server.metrics import REQUESTS, SECONDS

_log = logging.getLogger("varlen.requests")
_GIVEN = re.compile(r"[A-Za-z0-9-]{8,40}")


class JSONLines(logging.Formatter):
    """One JSON object a line, for programs that gather logs."""

    def format(self, record: logging.LogRecord) -> str:
        line: dict[str, object] = {
            "at": datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds"),
            "level": record.levelname.lower(),
            "from": record.name,
            "says": record.getMessage(),
        }
        line.update(getattr(record, "facts", {}))
        if job := getattr(record, "job", None):
            # What the queue says of a job: which it is, and what became of it.
            line["job"] = {"id": job.get("id"), "task": job.get("task_name"), "for": job.get("task_kwargs")}
            line["action"] = getattr(record, "action", "")
        if record.exc_info:
            line["trace"] = self.formatException(record.exc_info)
        return json.dumps(line, ensure_ascii=False)


class RequestLogMiddleware:
    """The id is what a proxy gave, or a new one; it comes back with the answer and stands in the log of who did what."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        given = request.headers.get("X-Request-Id", "")
        request.request_id = name = given if _GIVEN.fullmatch(given) else secrets.token_hex(8)  # type: ignore[attr-defined]
        begun = time.perf_counter()
        answer = self.get_response(request)
        seconds = time.perf_counter() - begun
        answer["X-Request-Id"] = name
        route = _route(request)
        REQUESTS.labels(request.method, route, str(answer.status_code)).inc()
        SECONDS.labels(route).observe(seconds)
        visitor = getattr(request, "visitor", None)
        # The path alone: what stands in a query is nobody's business.
        facts = {"request": name, "method": request.method, "path": request.path[:300], "status": answer.status_code,
                 "ms": round(1000 * seconds, 1), "who": visitor.name if visitor else None}  # fmt: skip
        _log.info("%s %s %s", request.method, request.path[:300], answer.status_code, extra={"facts": facts})
        return answer


def _route(request: HttpRequest) -> str:
    """The address with its numbers left out, so that there are few of them."""
    found = getattr(request, "resolver_match", None)
    return found.route if found is not None and found.route.startswith(("api/", "healthz", "metrics")) else "screens"
