"""What a YOLO dataset says beside its labels: `data.yaml` with names, splits and keypoints, and lists of names or of pictures."""

from __future__ import annotations

import re
from pathlib import PurePosixPath
from typing import Any

import yaml

from varlen.datasets.formats.tree import Tree, plain_path
from varlen.datasets.sources import SourceFiles
from varlen.datasets.splits import SPLIT_WORDS
from varlen.errors import DatasetError, ReadProblems

#: Names of files that list classes, one a line.
LISTS_OF_NAMES = ("obj.names", "classes.txt", "classes.names", "labels.names", "predefined_classes.txt")
#: A label file, a settings file or a list with more bytes is none.
LARGEST_TEXT = 16 << 20
#: A number of a class from here on is a mistake.
MOST_CLASSES = 100_000


def settings_path(tree: Tree) -> str | None:
    """The topmost YAML file with names."""
    for path in sorted(tree.ending(".yaml", ".yml"), key=lambda path: (path.count("/"), path)):
        if re.search(rb"(?m)^[\"']?names[\"']?\s*:", tree.head(path).removeprefix(b"\xef\xbb\xbf")):
            return path
    return None


def lines_of(files: SourceFiles, path: str) -> list[str]:
    """A text file's lines. Raises `DatasetError` naming it."""
    data = files.read(path)
    if len(data) > LARGEST_TEXT:
        raise DatasetError(f"{path}: {len(data)} bytes are too many for a text file of labels")
    return data.decode("utf-8-sig", "replace").splitlines()


class _PlainLoader(yaml.SafeLoader):
    """YAML without anchors: a few lines of them unfold to more than any memory holds."""

    def compose_node(self, parent: Any, index: Any) -> Any:
        if self.check_event(yaml.events.AliasEvent):
            raise yaml.YAMLError("anchors and aliases are not read; write the values out")
        return super().compose_node(parent, index)


def settings_in(files: SourceFiles, path: str | None) -> dict[str, Any]:
    """What the settings file says; nothing where there is none. Raises `DatasetError` naming it."""
    if path is None:
        return {}
    data = files.read(path)
    try:
        if len(data) > LARGEST_TEXT // 4:
            raise ValueError(f"{len(data)} bytes are too many")
        found = yaml.load(data.removeprefix(b"\xef\xbb\xbf"), Loader=_PlainLoader)
    except (yaml.YAMLError, ValueError, RecursionError, TypeError, AttributeError, LookupError, OverflowError) as error:
        raise DatasetError(f"{path}: not YAML ({(str(error).splitlines() or ['?'])[0]})") from None
    if not isinstance(found, dict):
        raise DatasetError(f"{path}: expected names and splits")
    return found


def class_names(tree: Tree, settings: dict[str, Any], path: str | None, texts: list[str]) -> list[str]:
    """From the settings, else from a list of names, else as many as the highest number in the labels says."""
    names = settings.get("names")
    if isinstance(names, dict):
        numbered = {int(number): name for number, name in names.items() if str(number).isdecimal()}
        if sorted(numbered) != list(range(len(names))):
            raise DatasetError(f"{path}: names must be numbered from 0 without gaps")
        names = [numbered[number] for number in range(len(names))]
    if names is None:
        lists = [found for found in tree.paths if found.rsplit("/", 1)[-1].lower() in LISTS_OF_NAMES]
        if lists:
            names = [line.strip() for line in lines_of(tree.files, min(lists, key=len)) if line.strip()]
    if names is None:
        firsts = {line.split()[0] for text in texts for line in lines_of(tree.files, text) if line.split()}
        highest = max((int(word) for word in firsts if word.isdecimal() and len(word) < 7), default=-1)
        names = [f"class {number}" for number in range(min(highest, MOST_CLASSES) + 1)]
    if not isinstance(names, list) or len(names) > MOST_CLASSES:
        raise DatasetError(f"{path}: names must be a list of at most {MOST_CLASSES}")
    return [str(name)[:200] for name in names]


def keypoint_shape(path: str | None, settings: dict[str, Any]) -> tuple[int, int]:
    """How many keypoints each object has, and how many numbers each of them; 0, 0 for none. Raises `DatasetError`."""
    shape = settings.get("kpt_shape")
    if shape is None:
        return 0, 0
    if (
        not isinstance(shape, list)
        or len(shape) != 2
        or not all(isinstance(n, int) for n in shape)
        or shape[1] not in (2, 3)
        or not 0 < shape[0] < 1000
    ):
        raise DatasetError(f"{path}: kpt_shape must be [number, 2] or [number, 3]")
    return shape[0], shape[1]


def partner_places(path: str | None, settings: dict[str, Any], points: int) -> list[int]:
    """The place of each keypoint's mirror partner; none where the settings name none. Raises `DatasetError`."""
    partners = settings.get("flip_idx")
    if partners is None or points == 0:
        return []
    if not isinstance(partners, list) or sorted(map(str, partners)) != sorted(map(str, range(points))):
        raise DatasetError(f"{path}: flip_idx must name each of the {points} keypoints once")
    return [int(partner) for partner in partners]


def point_names(points: int, settings: dict[str, Any]) -> tuple[str, ...]:
    """The keypoints' names, or their numbers."""
    names = settings.get("kpt_names")
    if isinstance(names, dict) and names:
        names = next(iter(names.values()))
    if isinstance(names, list) and len(names) == points:
        return tuple(str(name) for name in names)
    return tuple(f"point {number + 1}" for number in range(points))


def listed_splits(tree: Tree, settings: dict[str, Any], path: str | None, problems: ReadProblems) -> dict[str, str]:
    """The split of each picture in a folder or list that the settings name. Raises `DatasetError` for a list that matches no picture."""
    base = PurePosixPath(str(settings.get("path") or "."))
    here = PurePosixPath(path or "").parent
    found: dict[str, str] = {}
    for word, split in SPLIT_WORDS.items():
        value = settings.get(word)
        for place in value if isinstance(value, list) else [value] if isinstance(value, str) else []:
            name = plain_path(str(place))
            roots = dict.fromkeys((name, plain_path((base / name).as_posix()), plain_path((here / name).as_posix()), PurePosixPath(name).name))
            lists = [root for root in roots if root.lower().endswith(".txt") and root in tree.files.paths]
            if lists:
                found.update(_listed(tree, lists[0], split))
            elif not name.lower().endswith(".txt"):
                for root in roots:
                    inside = {key: split for key in tree.pictures if root in ("", ".") or key.startswith(root.rstrip("/") + "/")}
                    if inside:
                        found.update(inside)
                        break
            else:
                problems.note("missing-file", f"{path}: the list {place} of {word} is not there")
    if not settings:
        for list_path in [each for each in tree.ending(".txt") if PurePosixPath(each).stem.lower() in SPLIT_WORDS and "/labels/" not in f"/{each}"]:
            listed = _listed(tree, list_path, SPLIT_WORDS[PurePosixPath(list_path).stem.lower()], wanted=False)
            found.update(listed)
    return found


def _listed(tree: Tree, path: str, split: str, wanted: bool = True) -> dict[str, str]:
    """The pictures that a list names by paths of any kind. Raises `DatasetError` when it matches none, where it is `wanted`."""
    lines = [line.strip() for line in lines_of(tree.files, path) if line.strip()]
    found = {key: split for line in lines if (key := tree.named(line)) is not None}
    if lines and not found and wanted:
        raise DatasetError(f"{path}: none of the {len(lines)} pictures it lists is here, the first is {lines[0][:200]!r}")
    return found
