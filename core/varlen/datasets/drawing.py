"""Splits drawn for a whole dataset: classes divided alike, and what belongs together in one split.

Equal files, the images of a group and the windows of a picture stay together. Images whose split is known from before keep it.
"""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Iterable, Mapping

from varlen.datasets.entry import Entry
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.sources import Files
from varlen.datasets.splits import draw_splits
from varlen.errors import DatasetError


def drawn_splits(
    entries: Iterable[Entry], classes: tuple[str, ...], files: Files, options: ImportOptions, known: Mapping[str, str] | None = None
) -> dict[str, str]:
    """A split for every image. known: splits by the SHA-256 of pictures' files, in hex; they and what belongs with them are not drawn."""
    strata: dict[str, list[str]] = {}
    group_of: dict[str, str] = {}
    same: dict[str, str] = {}
    parent: dict[str, str] = {}
    kept: dict[str, str] = {}

    def root(name: str) -> str:
        while parent.setdefault(name, name) != name:
            name = parent[name]
        return name

    for entry in entries:
        named = Counter(entry.labels(classes))
        stratum = min(named, key=lambda name: (-named[name], name), default="") if options.stratify else ""
        strata.setdefault(stratum, []).append(entry.key)
        try:
            digest = hashlib.sha256(files.read(entry.key)).hexdigest()
        except DatasetError:
            continue
        first, group = same.setdefault(digest, entry.key), options.group_of(entry)
        if group:
            parent[root(entry.key)] = root(group_of.setdefault(group, entry.key))
        parent[root(entry.key)] = root(first)
        if known and digest in known:
            kept[entry.key] = known[digest]
    clusters = {key: root(key) for key in list(parent)}
    fixed = {clusters[key]: split for key, split in kept.items() if key in clusters}
    return draw_splits(dict(sorted(strata.items())), clusters, options.shares, options.seed, fixed)
