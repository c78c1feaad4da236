"""Splits: their order, the words that name them, and how they are drawn."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Iterable, Mapping
from pathlib import PurePosixPath

from varlen.datasets.entry import Entry
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.sources import Files
from varlen.draws import Stream
from varlen.errors import DatasetError

SPLITS = ("train", "validation", "test")


def in_order(splits: Iterable[str]) -> list[str]:
    """Splits in their usual order, others after them by name; each once."""
    present = set(splits)
    return [split for split in SPLITS if split in present] + sorted(present - set(SPLITS))


def draw_splits(
    strata: dict[str, list[str]], clusters: dict[str, str], shares: tuple[float, float], seed: int, fixed: Mapping[str, str] | None = None
) -> dict[str, str]:
    """A split for each image, class by class, so that each class is divided alike.

    strata: the images of each class; clusters: images with the same value go to one split, those
    without one by themselves; shares: of validation and test; a cluster counts for the class of its
    first image. Each draw depends on the seed and on the cluster's or image's own name. fixed: clusters whose split is known
    from before; the others fill up what these leave of the shares.
    """
    fixed = fixed or {}
    found: dict[str, str] = {}
    members: dict[str, list[str]] = {}
    for keys in strata.values():
        for key in keys:
            members.setdefault(clusters.get(key, key), []).append(key)
    for name, split in fixed.items():
        found.update(dict.fromkeys(members.get(name, ()), split))
    for keys in strata.values():
        own = dict.fromkeys(clusters.get(key, key) for key in keys if key not in found)
        ranked = sorted((name for name in own if members[name][0] not in found), key=lambda name: Stream(seed, name, 0, "split").word())
        before = Counter(found[key] for key in keys if clusters.get(key, key) in fixed)
        total = sum(len(members[name]) for name in ranked) + before.total()
        validation, test = (max(round(total * share) - before[split], 0) for share, split in zip(shares, ("validation", "test"), strict=True))
        for name in ranked:
            size = len(members[name])
            # A cluster goes where at least half of it is still wanted.
            split = "test" if test >= (size + 1) // 2 else "validation" if validation >= (size + 1) // 2 else "train"
            test, validation = (test - size, validation) if split == "test" else (test, validation - size if split == "validation" else validation)
            found.update(dict.fromkeys(members[name], split))
    drawn = [name for name in members if name not in fixed]
    if drawn and "train" not in found.values():
        # A few large clusters may have filled the other splits: without training there is nothing to evaluate.
        largest = max(drawn, key=lambda name: len(members[name]))
        found.update(dict.fromkeys(members[largest], "train"))
    return found


SPLIT_WORDS = {
    "train": "train", "training": "train", "val": "validation", "valid": "validation", "validation": "validation", "test": "test", "testing": "test",
}  # fmt: skip


def split_from_path(path: str) -> str | None:
    """The split that a folder in a path names, if one does."""
    for part in PurePosixPath(path).parts[:-1]:
        if part.lower() in SPLIT_WORDS:
            return SPLIT_WORDS[part.lower()]
    return None


def default_splits(strata: dict[str, list[str]]) -> dict[str, str]:
    """A split for each image where the files name none: a tenth of each class for validation, and another for test."""
    return draw_splits(strata, {}, (0.1, 0.1), 0)


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
    found = draw_splits(dict(sorted(strata.items())), clusters, options.shares, options.seed, fixed)
    return _with_every_split(found, clusters, set(fixed), options)


def _with_every_split(found: dict[str, str], clusters: dict[str, str], fixed: set[str], options: ImportOptions) -> dict[str, str]:
    """The same with one cluster for each split that a share is wanted of and that no class has enough images for: the smallest, drawn."""
    members: dict[str, list[str]] = {}
    for key, split in found.items():
        if split == "train" and clusters.get(key, key) not in fixed:
            members.setdefault(clusters.get(key, key), []).append(key)
    ranked = sorted(members, key=lambda name: (len(members[name]), Stream(options.seed, name, 0, "split").word()))
    for share, split in zip(options.shares, SPLITS[1:], strict=True):
        if round(len(found) * share) and split not in found.values() and len(ranked) > 1:
            found.update(dict.fromkeys(members[ranked.pop(0)], split))
    return found


def unlisted_said(keys: list[str]) -> str:
    """What is said of pictures that the lists of splits leave out."""
    many = f"{len(keys)} pictures are in no list of a split and are" if len(keys) > 1 else "1 picture is in no list of a split and is"
    return f"{many} read as train: {', '.join(keys[:3])}"
