"""Any nesting of lists, tuples and dicts through one draw, and back in the same form.

What a value is, is known by the last name on its way: of `data["target"]["boxes"]` that is "boxes". `WORDS` lists the names that
are understood; `roles` adds others, for a name anywhere or for one place, such as {"target.depth": "array"}. Without any name,
a `Labels` object is labels, and an array (H, W, 3) or (H, W, 1) uint8 in a list or tuple is the picture. All else passes through.

Roles: image (several of one size share the draw), labels (a `Labels` object), boxes, xywh, classes, keypoints, masks, polygons,
oriented, ids, label_map, array (moved with the picture, interpolated) and array_nearest (moved, values as they are).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

import numpy as np

from varlen.arrays.rendered import Rendered
from varlen.datasets.array_labels import Labels
from varlen.errors import ArrayError

WORDS = {
    "image": "image", "picture": "image", "photo": "image",
    "labels": "labels", "boxes": "boxes", "xywh": "xywh", "classes": "classes", "keypoints": "keypoints", "masks": "masks",
    "polygons": "polygons", "outlines": "polygons", "oriented": "oriented", "ids": "ids",
    "label_map": "label_map", "segmentation": "label_map", "depth": "array", "heat_map": "array", "array": "array",
}  # fmt: skip
PARTS = ("boxes", "xywh", "classes", "keypoints", "masks", "polygons", "oriented", "ids", "label_map")
ROLES = ("image", "labels", *PARTS, "array", "array_nearest", "untouched")
Path = tuple[Any, ...]


def render_nested(render: Callable[[Any, Labels], Rendered], data: Any, roles: Mapping[str, str] | None = None) -> Any:
    """`data` with everything in it that belongs to its picture rendered. Raises `ArrayError` where that is not clear."""
    roles = dict(roles or {})
    for name, role in roles.items():
        if role not in ROLES:
            raise ArrayError(f"roles: {name!r} can't be {role!r}; known are {', '.join(ROLES)}")
    found = list(_values(data, (), roles))
    images = [(path, value) for path, role, value in found if role == "image"]
    if not images:
        raise ArrayError('nested: there is no picture in it; name it "image", or say which name it has: roles={"photo_rgb": "image"}')
    given = [value for _, role, value in found if role == "labels"]
    parts: dict[str, tuple[Path, Any]] = {}
    for path, role, value in found:
        if role in PARTS and value is not None:
            if role in parts:
                raise ArrayError(f'nested: {role} are at {_said(parts[role][0])} and at {_said(path)}; say of one that it is "untouched"')
            parts[role] = (path, value)
    if given and (parts or len(given) > 1):
        raise ArrayError("nested: a Labels object holds all labels; there are others beside it")
    outs = [render(value, (given[0] if given else _labels(parts)) if place == 0 else Labels()) for place, (_, value) in enumerate(images)]
    first = outs[0]
    replaced: dict[Path, Any] = {path: out.image for (path, _), out in zip(images, outs, strict=True)}
    for path, role, value in found:
        if role in ("array", "array_nearest"):
            replaced[path] = first.again(value, nearest=role == "array_nearest")
        elif role == "labels":
            replaced[path] = first.labels
    for role, (path, value) in parts.items():
        replaced[path] = _like(value, first.labels.to_xywh() if role == "xywh" else getattr(first, role))
    return _rebuilt(data, (), replaced)


def _labels(parts: Mapping[str, tuple[Path, Any]]) -> Labels:
    values = {role: value for role, (_, value) in parts.items()}
    if "xywh" in values:
        if "boxes" in values:
            raise ArrayError('nested: boxes and xywh are the same thing in two conventions; say of one that it is "untouched"')
        return Labels.from_xywh(values.pop("xywh"), **values)
    return Labels(**values)


def _values(data: Any, path: Path, roles: Mapping[str, str]) -> Iterator[tuple[Path, str, Any]]:
    """Everything in it that has a role, with its place."""
    name = next((each for each in reversed(path) if isinstance(each, str)), None)
    role = roles.get(_said(path)) or (path and isinstance(path[-1], str) and (roles.get(path[-1]) or WORDS.get(path[-1]))) or None
    if role == "untouched":
        return
    if isinstance(data, Labels):
        yield path, "labels", data
    elif role is not None and not (role == "labels" or (role in ("image", "array") and isinstance(data, (Mapping, list, tuple)))):
        yield path, role, data
    elif name is None and isinstance(data, np.ndarray) and data.dtype == np.uint8 and data.ndim == 3 and data.shape[2] in (1, 3):
        yield path, "image", data
    elif isinstance(data, Mapping):
        for key, value in data.items():
            yield from _values(value, (*path, key), roles)
    elif isinstance(data, (list, tuple)):
        for place, value in enumerate(data):
            yield from _values(value, (*path, place), roles)


def _rebuilt(data: Any, path: Path, replaced: Mapping[Path, Any]) -> Any:
    if path in replaced:
        return replaced[path]
    if not any(each[: len(path)] == path for each in replaced):
        return data
    if isinstance(data, Mapping):
        made = {key: _rebuilt(value, (*path, key), replaced) for key, value in data.items()}
        return made if type(data) is dict else type(data)(made)  # type: ignore[call-arg]
    if isinstance(data, (list, tuple)):
        items = [_rebuilt(value, (*path, place), replaced) for place, value in enumerate(data)]
        return type(data)(*items) if hasattr(data, "_fields") else type(data)(items)
    return data


def _like(given: Any, made: Any) -> Any:
    """The result in the form of what went in: lists stay lists, arrays keep their type."""
    if isinstance(given, np.ndarray):
        return np.asarray(made, given.dtype)
    if isinstance(made, np.ndarray):
        made = made.tolist()
    return tuple(made) if isinstance(given, tuple) and isinstance(made, list) else made


def _said(path: Path) -> str:
    return ".".join(map(str, path))
