"""Figures for monitoring, in the open text format; web processes share theirs through files in PROMETHEUS_MULTIPROC_DIR."""

from __future__ import annotations

import os
from datetime import timedelta
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
