"""After an import every picture is decoded once, to find damage and lookalikes and to count levels."""

from __future__ import annotations

import multiprocessing
import os
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ProcessPoolExecutor
from itertools import islice
from pathlib import Path

import numpy as np
from django.conf import settings
from django.db import transaction
from varlen.datasets.edits import Edit
from varlen.datasets.findings import by_severity
from varlen.datasets.findings.image_checks import ImageChecks, ScannedImage, scan_file
from varlen.datasets.findings.kinds import EXAMPLES, Finding
from varlen.datasets.summary import mean_and_deviation

from varlen_server.content_store import path_of
from varlen_server.datasets.edits import apply_edits
from varlen_server.datasets.models import Dataset

#: From so many pictures on, starting processes pays.
MANY = 400
AT_ONCE = 64


def scan_pixels(dataset: Dataset, progress: Callable[[int], None] = lambda done: None) -> None:
    """Add what decoding shows to a dataset's findings and statistics; damaged images are left out by an edit."""
    rows = list(dataset.images.filter(left_out=False).values_list("key", "split", "sha256"))
    checks = ImageChecks()
    jobs = [(str(path_of(Path(settings.PICTURES), digest)), key) for key, _, digest in rows]
    for done, ((key, split, digest), scanned) in enumerate(zip(rows, _scanned(jobs), strict=True), 1):
        checks.add(key, split, digest, scanned)
        if done % AT_ONCE == 0:
            progress(done)
    found = checks.findings()
    chosen = "train" if "train" in checks.levels else None
    levels = sum((each for split, each in checks.levels.items() if chosen in (None, split)), np.zeros((3, 256), np.int64))
    with transaction.atomic():
        row = Dataset.objects.select_for_update().get(pk=dataset.pk)
        kinds = {finding.kind for finding in found}
        earlier = [Finding(**each) for each in row.findings if each["kind"] not in kinds or each["kind"] == "damaged-file"]
        row.findings = [finding.to_json() for finding in by_severity(_joined([*earlier, *found]))]
        if checks.levels:
            mean, deviation = mean_and_deviation(levels)
            row.statistics = {"mean": mean, "std": deviation, "levels": levels.reshape(3, 64, 4).sum(axis=2).tolist(),
                              "range": [[int(each.nonzero()[0][0]), int(each.nonzero()[0][-1])] for each in levels],
                              "split": chosen or "all"}  # fmt: skip
        row.examined, row.examining = len(rows), False
        row.save(update_fields=["findings", "statistics", "examined", "examining"])
    damaged = [Edit("leave-out", image) for finding in found if finding.kind == "damaged-file" for image, _ in finding.places]
    if damaged and len(damaged) < len(rows):
        apply_edits(Dataset.objects.get(pk=dataset.pk), damaged, "damaged-file")


def _joined(findings: Iterable[Finding]) -> list[Finding]:
    """One finding a kind."""
    kinds: dict[str, Finding] = {}
    for finding in findings:
        known = kinds.setdefault(finding.kind, finding)
        if known is not finding:
            known.count += finding.count
            known.examples = [*known.examples, *finding.examples][:EXAMPLES]
            known.places = [*known.places, *finding.places]
    return list(kinds.values())


def _scanned(jobs: list[tuple[str, str]]) -> Iterator[ScannedImage]:
    """The outcome for each picture, in order; in several processes when there are many."""
    if len(jobs) < MANY:
        yield from map(scan_file, jobs)
        return
    workers = os.cpu_count() or 1
    with ProcessPoolExecutor(workers, multiprocessing.get_context("spawn")) as pool:
        waiting = iter(jobs)
        while some := list(islice(waiting, AT_ONCE * workers)):
            yield from pool.map(scan_file, some, chunksize=8)
