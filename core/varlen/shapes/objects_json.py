"""Objects as plain JSON values and back, without loss: for a database and for the screen."""

from __future__ import annotations

from typing import Any

import numpy as np

from varlen.model.objects import Mask, Objects, Part, Polygon, make_objects
from varlen.shapes.rle import counts_of, mask_of


def objects_to_json(objects: Objects, classes: tuple[str, ...], arrays: bool = False, digits: int | None = None) -> list[dict[str, Any]]:
    """One JSON object for each; masks as run lengths of their own frame, down the columns; `oriented`, four corners, where there is one.

    arrays: leave points and boxes as arrays, for a coder that takes them as they are; digits:
    round coordinates, for a screen that needs no more.
    """
    if digits is not None:
        rounded = objects.outlines.with_points(objects.outlines.points.round(digits))
        oriented = objects.oriented.with_corners(objects.oriented.corners.round(digits))
        objects = objects.replace(boxes=objects.boxes.round(digits), outlines=rounded, keypoints=objects.keypoints.round(digits), oriented=oriented)
    polygons = objects.polygons
    if len(objects.oriented.owners):
        only = objects.oriented.only()
        polygons = tuple(None if place in only else polygon for place, polygon in enumerate(polygons))
    boxes, keypoints = (objects.boxes, np.ascontiguousarray(objects.keypoints)) if arrays else (objects.boxes.tolist(), objects.keypoints.tolist())
    crowd, share, numbers = objects.crowd.tolist(), objects.share.tolist(), objects.classes.tolist()
    found: list[dict[str, Any]] = [
        {
            "id": objects.ids[place],
            "image": objects.images[place],
            "class": classes[numbers[place]],
            "box": boxes[place],
            "polygon": _polygon_to_json(polygons[place], arrays),
            "mask": _mask_to_json(objects.masks[place]),
            "keypoints": keypoints[place],
            "crowd": crowd[place],
            "share": round(share[place], 4),
            "attributes": objects.attributes[place],
        }
        for place in range(len(objects))
    ]
    for place, corners in zip(objects.oriented.owners.tolist(), objects.oriented.corners, strict=True):
        found[place]["oriented"] = corners if arrays else corners.tolist()
    return found


def objects_from_json(items: list[dict[str, Any]], classes: tuple[str, ...], image: str) -> Objects:
    """The objects of a source image as they were."""
    places = {name: place for place, name in enumerate(classes)}
    return make_objects(
        [item["id"] for item in items], image, [places[item["class"]] for item in items], [item["box"] for item in items],
        [_polygon_from_json(item["polygon"]) for item in items], [_mask_from_json(item["mask"]) for item in items],
        [item["keypoints"] for item in items], [item["crowd"] for item in items], [item["attributes"] for item in items],
        [np.array(item["oriented"], np.float64) if item.get("oriented") else None for item in items],
    )  # fmt: skip


def _polygon_to_json(polygon: Polygon | None, arrays: bool) -> list[dict[str, Any]] | None:
    if polygon is None:
        return None
    if arrays:
        return [{"outline": np.ascontiguousarray(part.outline), "holes": [np.ascontiguousarray(hole) for hole in part.holes]} for part in polygon]
    return [{"outline": part.outline.tolist(), "holes": [hole.tolist() for hole in part.holes]} for part in polygon]


def _polygon_from_json(parts: list[dict[str, Any]] | None) -> Polygon | None:
    if parts is None:
        return None
    return tuple(
        Part(np.array(part["outline"], np.float64).reshape(-1, 2), tuple(np.array(hole, np.float64).reshape(-1, 2) for hole in part["holes"]))
        for part in parts
    )


def _mask_to_json(mask: Mask | None) -> dict[str, Any] | None:
    if mask is None:
        return None
    height, width = mask.pixels.shape
    return {"left": mask.left, "top": mask.top, "width": width, "height": height, "counts": counts_of(mask.pixels)}


def _mask_from_json(mask: dict[str, Any] | None) -> Mask | None:
    if mask is None:
        return None
    return Mask(mask["left"], mask["top"], mask_of(mask["counts"], mask["height"], mask["width"]))
