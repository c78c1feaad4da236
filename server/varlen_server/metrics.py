"""Figures for monitoring, and every request with an id, a line in the log and a place in them."""

from __future__ import annotations

import json
import logging
import os
import re
import secrets
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Any

from django.conf import settings
from django.db import DatabaseError
from django.db.models import Count
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.utils import timezone
from prometheus_client import CollectorRegistry, Counter, Gauge, Histogram
from prometheus_client.multiprocess import MultiProcessCollector
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest

REQUESTS = Counter("varlen_requests", "Requests answered.", ["method", "route", "status"])
SECONDS = Histogram("varlen_request_seconds", "Until an answer begins.", ["route"], buckets=(0.005, 0.02, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 10, 30))


def health(request: HttpRequest) -> HttpResponse:
    """Whether everything is there that a request needs: the database answers, and a worker lives."""
    from procrastinate.contrib.django.models import ProcrastinateWorker

    alive_since = timezone.now() - timedelta(seconds=settings.WORKER_SILENT)
    try:
        worker = ProcrastinateWorker.objects.filter(last_heartbeat__gt=alive_since).exists()
    except DatabaseError:
        return JsonResponse({"database": False, "worker": False}, status=503)
    return JsonResponse({"database": True, "worker": worker}, status=200 if worker else 503)


def metrics(request: HttpRequest) -> HttpResponse:
    """All figures; for people who may look, and for tokens that may read."""
    visitor: Any = getattr(request, "visitor", None)
    if visitor is None or visitor.scope == "scores":
        return HttpResponse("Sign in, or send a token.\n", status=401, content_type="text/plain", headers={"WWW-Authenticate": "Bearer"})
    registry = CollectorRegistry()
    if os.environ.get("PROMETHEUS_MULTIPROC_DIR"):
        MultiProcessCollector(registry)  # type: ignore[no-untyped-call]
    else:
        registry.register(REQUESTS)
        registry.register(SECONDS)
    _of_the_database(registry)
    text = generate_latest(registry)  # type: ignore[no-untyped-call]
    return HttpResponse(text, content_type=CONTENT_TYPE_LATEST)


def _of_the_database(registry: CollectorRegistry) -> None:
    from procrastinate.contrib.django.models import ProcrastinateJob

    from varlen_server.datasets.models import Dataset
    from varlen_server.editions.models import Edition

    jobs = Gauge("varlen_jobs", "Jobs by their state.", ["task", "state"], registry=registry)
    for row in ProcrastinateJob.objects.values("task_name", "status").annotate(count=Count("id")):
        jobs.labels(row["task_name"], row["status"]).set(row["count"])
    editions = Gauge("varlen_editions", "Editions by their state.", ["state"], registry=registry)
    for row in Edition.objects.order_by().values("state").annotate(count=Count("id")):
        editions.labels(row["state"]).set(row["count"])
    Gauge("varlen_datasets", "Datasets.", registry=registry).set(Dataset.objects.filter(ready=True).count())


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
        # The path alone: a query may hold what must not stand in a log.
        facts = {"request": name, "method": request.method, "path": request.path[:300], "status": answer.status_code,
                 "ms": round(1000 * seconds, 1), "who": visitor.name if visitor else None}  # fmt: skip
        _log.info("%s %s %s", request.method, request.path[:300], answer.status_code, extra={"facts": facts})
        return answer


def _route(request: HttpRequest) -> str:
    """The address with its numbers left out, so that there are few of them."""
    found = getattr(request, "resolver_match", None)
    return found.route if found is not None and found.route.startswith(("api/", "healthz", "metrics")) else "screens"
