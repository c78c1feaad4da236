"""Any nesting of lists, tuples and dicts through one draw, and back in the same form.

What a value is, is known by the last name on its way: of `data["target"]["boxes"]` that is "boxes". `WORDS` lists the names that
are understood; `roles` adds others, for a name anywhere or for one place, such as {"target.depth": "array"}. Without any name,
a `Labels` object is labels, and an array (H, W, 3) or (H, W, 1) uint8 in a list or tuple is the picture.

Roles: image (several of one size share the draw), labels (a `Labels` object), boxes (corners), xywh, classes, keypoints, masks, polygons,
oriented, ids, label_map, array (moved with the picture, interpolated), array_nearest (moved, values as they are), area (computed anew from
mask, outline or box), per_object (one entry for each object, of those that are left) and untouched.

Nothing is torn apart: arrays and lists beside boxes with as many entries follow the objects; an array elsewhere that has as many, or has the
picture's size, and no role is refused. All else passes through.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any, NamedTuple

import numpy as np

from varlen.arrays.rendered import Rendered
from varlen.datasets.array_labels import Labels
from varlen.datasets.given_pictures import given_array, given_picture
from varlen.errors import ArrayError
from varlen.kernels.pixel_digest import pixel_digest

WORDS = {
    "image": "image", "picture": "image", "photo": "image",
    "labels": "labels", "boxes": "boxes", "xywh": "xywh", "classes": "classes", "keypoints": "keypoints", "masks": "masks",
    "polygons": "polygons", "outlines": "polygons", "oriented": "oriented", "ids": "ids", "area": "area", "iscrowd": "per_object",
    "label_map": "label_map", "depth": "array", "heat_map": "array", "array": "array",
    "image_id": "untouched", "size": "untouched", "orig_size": "untouched", "image_size": "untouched", "shape": "untouched",
}  # fmt: skip
#: Names that stand for several things: what they hold must say which.
BOXES_OF_SOME_KIND = ("bbox", "bboxes")
MAP_OR_OUTLINES = ("segmentation", "mask")
PLACED = ("boxes", "xywh", "keypoints", "masks", "polygons", "oriented")
PARTS = (*PLACED, "classes", "ids", "label_map")
ROLES = ("image", "labels", *PARTS, "array", "array_nearest", "area", "per_object", "untouched")
Path = tuple[Any, ...]


class _Found(NamedTuple):
    """A value with its place and its role; none for what nothing is known of."""

    path: Path
    role: str
    value: Any
    beside_objects: bool  # in one dict with boxes and the like


def render_nested(render: Callable[[Any, Labels, str], Rendered], data: Any, key: str, roles: Mapping[str, str] | None = None) -> Any:
    """`data` with everything in it that belongs to its picture rendered. render: of a picture, labels and a key.

    Raises `ArrayError` where it is not clear what belongs to the picture.
    """
    roles = dict(roles or {})
    for name, role in roles.items():
        if role not in ROLES:
            raise ArrayError(f"roles: {name!r} can't be {role!r}; known are {', '.join(ROLES)}")
    found = list(_values(data, (), roles, False))
    images = [(each.path, given_picture(each.value, _said(each.path) or "image")) for each in found if each.role == "image"]
    if not images:
        raise ArrayError('nested: there is no picture in it; name it "image", or say which name it has: roles={"photo_rgb": "image"}')
    given = [each.value for each in found if each.role == "labels"]
    parts: dict[str, _Found] = {}
    for each in found:
        if each.role in PARTS and each.value is not None:
            if each.role in parts:
                raise ArrayError(f'nested: {each.role} are at {_said(parts[each.role].path)} and at {_said(each.path)}; '
                                 'say of one that it is "untouched"')  # fmt: skip
            parts[each.role] = each
    if given and (parts or len(given) > 1):
        raise ArrayError("nested: a Labels object holds all labels; there are others beside it")
    labels = given[0] if given else _labels(parts)
    followers = _followers(found, len(labels), images[0][1].shape[:2])
    key = key or pixel_digest(images[0][1])
    outs = [render(picture, labels if place == 0 else Labels(), key) for place, (_, picture) in enumerate(images)]
    first = outs[0]
    replaced: dict[Path, Any] = {path: out.image for (path, _), out in zip(images, outs, strict=True)}
    for each in found:
        if each.role in ("array", "array_nearest"):
            replaced[each.path] = _like(each.value, first.again(given_array(each.value), nearest=each.role == "array_nearest"))
        elif each.role == "labels":
            replaced[each.path] = first.labels
        elif each.role == "area" and each.value is not None and len(labels):
            replaced[each.path] = _like(each.value, np.array(first.areas))
    for each in followers:
        replaced[each.path] = _kept(each, first)
    for role, each in parts.items():
        made = first.labels.to_xywh() if role == "xywh" else getattr(first, role)
        replaced[each.path] = _rings_like(each.value, made, first.kept.tolist()) if role == "polygons" else _like(each.value, made)
    return _rebuilt(data, (), replaced)


def _labels(parts: Mapping[str, _Found]) -> Labels:
    values = {role: _plain(each.value) for role, each in parts.items()}
    if "xywh" in values:
        if "boxes" in values:
            raise ArrayError('nested: boxes and xywh are the same thing in two conventions; say of one that it is "untouched"')
        return Labels.from_xywh(values.pop("xywh"), **values)
    return Labels(**values)


def _followers(found: list[_Found], count: int, picture: tuple[int, ...]) -> list[_Found]:
    """What has one entry for each object. Raises `ArrayError` for an array that may belong to the picture or its objects, and has no role."""
    followers: list[_Found] = []
    for each in found:
        if any(each.path[: len(other.path)] == other.path for other in followers):
            continue
        length = _length(each.value)
        if each.role == "per_object":
            if each.value is not None and length != count:
                raise ArrayError(f"nested: {_said(each.path)} has {length} entries for {count} objects")
            followers += [each] * (each.value is not None)
        elif not each.role and count and length == count and each.beside_objects:
            followers.append(each)
        elif not each.role and _is_array(each.value):
            shape = np.shape(each.value)
            whole = picture in (shape[:2], shape[1:3])
            if whole or length == count > 1:
                place = _said(each.path)
                whose = "the picture's size" if whole else "as many entries as there are objects"
                raise ArrayError(f'nested: {place} has {whose}, and nothing says what it is; write roles={{"{place}": '
                                 f'"{"array" if whole else "per_object"}"}}, or "untouched"')  # fmt: skip
    return followers


def _kept(each: _Found, out: Rendered) -> Any:
    """The entries of the objects that are left. Raises `ArrayError` where objects of other pictures came in, of which there is no entry."""
    kept = out.kept
    if (kept < 0).any():
        raise ArrayError(f"nested: {_said(each.path)} has no entries for the objects of the pictures that were mixed in")
    if isinstance(each.value, (list, tuple)):
        return type(each.value)(each.value[place] for place in kept.tolist())
    return _like(each.value, np.asarray(each.value)[kept])


def _values(data: Any, path: Path, roles: Mapping[str, str], beside: bool) -> Iterator[_Found]:
    """Everything in it that may belong to the picture, with its place."""
    name = path[-1] if path and isinstance(path[-1], str) else ""
    role = roles.get(_said(path)) or roles.get(name) or _role_by_name(name, data, path, beside)
    if isinstance(data, Labels):
        yield _Found(path, "labels", data, beside)
    elif role == "untouched" or (role and data is None):
        return
    elif role and not (role == "labels" or (role in ("image", "array") and isinstance(data, (Mapping, list, tuple)))):
        yield _Found(path, role, data, beside)
    elif not any(isinstance(each, str) for each in path) and _is_picture(data):
        yield _Found(path, "image", data, beside)
    elif isinstance(data, Mapping):
        inside = any(_placed(name, value, (*path, name), roles) for name, value in data.items() if value is not None)
        for name, value in data.items():
            yield from _values(value, (*path, name), roles, inside)
    elif isinstance(data, (list, tuple)):
        if isinstance(data, list):
            yield _Found(path, "", data, beside)
        for place, value in enumerate(data):
            yield from _values(value, (*path, place), roles, False)
    elif _is_array(data):
        yield _Found(path, "", data, beside)


def _placed(name: Any, value: Any, path: Path, roles: Mapping[str, str]) -> bool:
    role = roles.get(_said(path)) or roles.get(name) or WORDS.get(name)
    return role in PLACED or (role is None and name in MAP_OR_OUTLINES and isinstance(value, (list, tuple)))


def _role_by_name(name: str, value: Any, path: Path, beside: bool) -> str:
    """What a name stands for with this value. Raises `ArrayError` where it could be several things."""
    if name in BOXES_OF_SOME_KIND and value is not None:
        raise ArrayError(f'nested: {_said(path)} may be corners or corner and size; write roles={{"{name}": "boxes"}} for x_min, y_min, x_max, '
                         f'y_max, or roles={{"{name}": "xywh"}}')  # fmt: skip
    if name in MAP_OR_OUTLINES and value is not None:
        if isinstance(value, (list, tuple)):
            return "polygons"
        array = np.asarray(value)
        if array.ndim == 2 and array.dtype.kind in "iu":
            return "label_map"
        raise ArrayError(f'nested: {_said(path)} is {array.dtype} {array.shape}; write roles={{"{name}": "array_nearest"}} to move its values as '
                         f'they are, "array" to interpolate them, or "masks" for one mask (N, H, W) an object')  # fmt: skip
    if name == "labels" and beside and value is not None and not isinstance(value, (Labels, Mapping)):
        return "classes"
    return WORDS.get(name, "")


def _is_picture(value: Any) -> bool:
    if getattr(value, "mode", None) is not None and hasattr(value, "size"):
        return True
    return _is_array(value) and np.asarray(value).dtype == np.uint8 and len(np.shape(value)) == 3 and np.shape(value)[2] in (1, 3)


def _is_array(value: Any) -> bool:
    return isinstance(value, np.ndarray) or (hasattr(value, "__array__") and hasattr(value, "shape"))


def _length(value: Any) -> int:
    """How many entries an array or a list has; −1 for anything else."""
    if isinstance(value, (list, tuple)):
        return len(value)
    return np.shape(value)[0] if _is_array(value) and np.shape(value) else -1


def _plain(value: Any) -> Any:
    return np.asarray(value) if _is_array(value) else value


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
    if _is_array(given):  # a tensor makes one of its own kind, type and device
        return given.new_tensor(made) if hasattr(given, "new_tensor") else np.asarray(made, np.asarray(given).dtype)
    if isinstance(made, np.ndarray):
        made = made.tolist()
    return tuple(made) if isinstance(given, tuple) and isinstance(made, list) else made


def _rings_like(given: Any, made: Any, kept: list[int]) -> Any:
    """Outlines as they went in: one ring by itself or a list of rings, of lists or arrays."""
    found = []
    for rings, place in zip(made, kept, strict=True):
        own = given[place] if 0 <= place < len(given) else given[0]
        alone = own is not None and len(own) > 0 and np.ndim(own[0]) == 1
        plain = rings is not None and not _is_array(own[0] if not alone else own) and not _is_array(own[0])
        parts = None if rings is None else [ring.tolist() if plain else ring for ring in rings]
        found.append(parts[0] if parts is not None and alone and len(parts) == 1 else parts)
    return tuple(found) if isinstance(given, tuple) else found


def _said(path: Path) -> str:
    return ".".join(map(str, path))
