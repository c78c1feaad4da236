"""What looks wrong in a dataset: broken files, suspicious labels, classes, duplicates, and how boxes were read.

Looking changes nothing. Each finding says how often, gives examples, why it matters and what can be done.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable

from varlen.datasets.dataset import Dataset
from varlen.datasets.findings.checks import ImageChecks, LabelChecks, likeness_hash, scan_image
from varlen.datasets.findings.kinds import EDITS, KINDS, SEVERITIES, Finding, by_severity
from varlen.datasets.image_files import read_header
from varlen.datasets.level_rules import MapLevels
from varlen.datasets.prepared_files import PreparedFiles
from varlen.errors import DatasetError, ReadProblems

__all__ = ["EDITS", "KINDS", "SEVERITIES", "Finding", "by_severity", "check_dataset", "likeness_hash"]


def check_dataset(dataset: Dataset, problems: ReadProblems, progress: Callable[[], None] = lambda: None) -> list[Finding]:
    """All findings, the worst kinds first. `problems`: what was noted when the dataset was read.

    Every picture is read and decoded once; nothing is kept but a fingerprint of each.
    """
    labels, pictures = LabelChecks(dataset.classes, dataset.skeleton), ImageChecks()
    for key, entry in dataset.entries.items():
        labels.labels(entry)
        progress()
        try:
            data = dataset.source(key)
        except DatasetError as error:
            labels.notes.add("missing-file", str(error), key)
            continue
        facts, found, digest = read_header(data, key), scan_image(data, key), hashlib.sha256(data).hexdigest()
        if facts is not None:
            labels.header(key, facts)
        if entry.label_map:
            try:
                labels.label_map(key, dataset.files, entry.label_map, _map_levels(dataset), len(dataset.map_classes))
                dataset.label_map(key)
            except DatasetError as error:
                labels.notes.add("damaged-map", str(error), key)
        if not found.error:
            labels.image(key, entry.split, digest)
            if found.size != tuple(entry.size):
                labels.notes.add("size-disagrees", size_disagrees(key, found.size, tuple(entry.size)), key)
        pictures.add(key, entry.split, digest, found)
    return by_severity([*labels.findings(problems), *pictures.findings()])


def _map_levels(dataset: Dataset) -> MapLevels:
    return dataset.files.map_levels if isinstance(dataset.files, PreparedFiles) else MapLevels()


def size_disagrees(key: str, found: tuple[int, ...], said: tuple[int, ...]) -> str:
    """How the sizes of a picture and its labels differ, in words."""
    return f"{key}: {found[0]}×{found[1]} px, its labels say {said[0]}×{said[1]} px"
