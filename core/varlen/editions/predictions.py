"""Predictions made on an edition's images, back on its source pictures."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import groupby
from operator import itemgetter
from pathlib import Path
from typing import Any

import numpy as np
import orjson

from varlen.datasets.dataset import Dataset
from varlen.editions.record import EditionRecord, read_record
from varlen.editions.rows import Row, read_rows
from varlen.editions.source import recorded_pipeline
from varlen.errors import EditionError
from varlen.pipeline.plan import Plan
from varlen.render.back import FoundArray, FoundList, array_back, back
from varlen.render.renderer import Renderer
from varlen.shapes.rle import compress, counts_of, expand, mask_of

#: COCO names the pixel that a keypoint lies on; its middle is half a pixel further.
PIXEL_NAMED = np.array([[0.5, 0.5, 0.0]])


def predictions_back(edition: Path, predictions: list[dict[str, Any]], dataset: Dataset, split: str = "") -> tuple[list[dict[str, Any]], int]:
    """COCO results over an edition as results over its source, and how many were left out because they lie in blank area.

    predictions: each with `image_id` and any of `bbox`, `segmentation` and `keypoints`; all else is kept. image_id: the id in the edition's COCO
    file of `split`, or a file's name. In what comes back it is the key of the source picture; `variant` says which variant it was found on.
    Raises `EditionError` for an image that is not in the edition.
    """
    record = read_record(edition)
    renderer = Renderer(dataset, recorded_pipeline(edition, record))
    rows = _rows_wanted(edition, record, predictions, split)
    found, blank = [], 0
    for name, of_image in groupby(predictions, itemgetter("image_id")):
        plan = renderer.replan(rows[name]["trace"])
        for prediction in of_image:
            moved = _moved(prediction, plan, dataset)
            if moved is None:
                blank += 1
            else:
                found.append({**moved, "variant": rows[name]["variant"]})
    return found, blank


def _rows_wanted(edition: Path, record: EditionRecord, predictions: list[dict[str, Any]], split: str) -> dict[Any, Row]:
    """The rows of all images that are named, by what names them."""
    names: dict[Any, str] = {}
    for each in predictions:
        if not isinstance(each, dict) or not isinstance(each.get("image_id"), (int, str)):
            raise EditionError("predictions: each is an object with image_id, such as the entries of a COCO results file")
        names[each["image_id"]] = str(each["image_id"])
    if numbers := [name for name in names if isinstance(name, int)]:
        names |= _files_of_ids(edition, record, numbers, split)
    wanted = {name: given for given, name in names.items()}
    found: dict[Any, Row] = {}
    for row in read_rows(edition):
        for name in (row["file"], row["file"].split("/", 2)[-1], row["file"].rpartition("/")[2]):
            if name in wanted and (not split or row["split"] == split):
                found.setdefault(wanted[name], row)
    missing = [given for given in names if given not in found]
    if missing:
        raise EditionError(f"{edition}: there is no image {missing[0]!r}")
    return found


def _files_of_ids(edition: Path, record: EditionRecord, ids: list[int], split: str) -> dict[Any, str]:
    splits = [split] if split else list(record["counts"])
    if len(splits) > 1:
        raise EditionError(f"{edition}: image ids count from 1 in each of {', '.join(splits)}; say which with --split")
    path = edition / "annotations" / f"{splits[0]}.json"
    try:
        images = orjson.loads(path.read_bytes())["images"]
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise EditionError(f"{path}: can't be read, and numbers are ids of its images ({error})") from None
    named = {image["id"]: f"images/{splits[0]}/{image['file_name']}" for image in images}
    missing = [each for each in ids if each not in named]
    if missing:
        raise EditionError(f"{path}: there is no image with the id {missing[0]}")
    return {each: named[each] for each in ids}


def _moved(prediction: dict[str, Any], plan: Plan, dataset: Dataset) -> dict[str, Any] | None:
    """One prediction on its source picture; None where it lies in blank area."""
    parts: dict[str, Any] = {}
    keys: list[str] = []
    for name, found in _parts(prediction, plan, dataset):
        if found is None:
            return None
        keys += found.keys
        parts[name] = found
    named = [key for key in keys if key]
    if keys and not named:
        return None
    moved = {**prediction, "image_id": named[0] if named else plan.image}
    if "bbox" in parts:
        x0, y0, x1, y1 = (round(value, 3) for value in parts["bbox"][0].tolist())
        moved["bbox"] = [x0, y0, round(x1 - x0, 3), round(y1 - y0, 3)]
    if "keypoints" in parts:
        points = np.asarray(parts["keypoints"][0]) - PIXEL_NAMED[0]
        points[np.isnan(points).any(axis=1)] = 0.0
        moved["keypoints"] = points.round(3).ravel().tolist()
    if "outlines" in parts:
        moved["segmentation"] = [ring[~np.isnan(ring).any(axis=1)].round(3).ravel().tolist() for ring in parts["outlines"]]
    if "mask" in parts:
        pixels = (np.nan_to_num(np.asarray(parts["mask"]), nan=0.0) >= 0.5).astype(np.uint8)
        moved["segmentation"] = {"size": list(pixels.shape), "counts": compress(counts_of(pixels))}
    return moved


def _parts(prediction: dict[str, Any], plan: Plan, dataset: Dataset) -> Iterator[tuple[str, FoundArray | FoundList | None]]:
    def size(key: str) -> Any:
        return dataset.entries[key].size

    if (box := prediction.get("bbox")) is not None:
        x, y, width, height = box
        found = back(plan, np.array([[x, y, x + width, y + height]], np.float64), size, dataset.swap)
        yield "bbox", found if any(found.keys) else None
    if points := prediction.get("keypoints"):
        yield "keypoints", back(plan, np.array(points, np.float64).reshape(1, -1, 3) + PIXEL_NAMED, size, dataset.swap)
    segmentation = prediction.get("segmentation")
    if isinstance(segmentation, list) and segmentation:
        yield "outlines", back(plan, [np.array(ring, np.float64).reshape(-1, 2) for ring in segmentation], size, dataset.swap)
    elif isinstance(segmentation, dict):
        height, width = segmentation["size"]
        counts = segmentation["counts"]
        mask = mask_of(expand(counts) if isinstance(counts, str) else counts, height, width)
        yield "mask", array_back(plan, mask, plan.image, size)
