"""Writing the night moth survey as an ordinary COCO dataset."""

from __future__ import annotations

import json
import multiprocessing
import os
import shutil
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
import orjson
from numpy.typing import NDArray

from varlen.datasets.image_files import encode
from varlen.demo.painting import KEYPOINTS, LINES, SPECIES
from varlen.demo.scene import HEIGHT, WIDTH, Seen, photograph
from varlen.errors import EditionError
from varlen.shapes.rle import encode as encode_mask

SEED = 1907
Photograph = Callable[[int, int], tuple[NDArray[np.uint8], list[Seen]]]

#: A sensible pipeline for the survey: the light, realistic end of the ranges.
PIPELINE: dict[str, Any] = {
    "varlen_pipeline": 1,
    "name": "Lamp drift",
    "seed": 20,
    "draw_per": "image",
    "labels": {"box_fit": "corners", "keep_share": 0.25, "keep_side_px": 3},
    "steps": [
        {"id": "mirror", "step": "flip", "direction": "horizontal", "probability": 0.5},
        {"id": "tilt", "step": "rotate", "degrees": [-12, 12], "frame": "keep", "edges": "mirror", "probability": 0.7},
        {"id": "light", "step": "color_jitter", "brightness_factor": [0.77, 1.3], "hue_degrees": [-5, 5]},
        {"id": "gather", "step": "mosaic", "tile_scale": [0.5, 0.75], "width_px": 640, "height_px": 480, "probability": 0.15},
        {"id": "fit", "step": "resize", "width_px": 640, "height_px": 480, "fit": "letterbox", "scope": "every"},
        {"id": "focus", "step": "blur", "sigma_px": [0, 1], "probability": 0.3},
    ],
}


def split_of(number: int, count: int) -> str:
    """Four fifths for training, a tenth each for validation and test."""
    tenth = max(1, count // 10)
    return "test" if number >= count - tenth else "validation" if number >= count - 2 * tenth else "train"


def write_demo(
    folder: Path, images: int = 60, seed: int = SEED, workers: int | None = None, progress: Callable[[], None] = lambda: None,
    take: Photograph = photograph,
) -> None:  # fmt: skip
    """Render the survey into `folder`, which must be missing or empty. take: makes a picture, in any process. Raises `EditionError`."""
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise EditionError(f"{folder}: exists and is not empty")
    part = folder.with_name(f".{folder.name}.varlen-part")
    try:
        shutil.rmtree(part, ignore_errors=True)
        for split in ("train", "validation", "test"):
            (part / "images" / split).mkdir(parents=True, exist_ok=True)
        labels: dict[str, list[tuple[str, list[Seen]]]] = {"train": [], "validation": [], "test": []}
        context = multiprocessing.get_context("forkserver")
        with ProcessPoolExecutor(workers or os.cpu_count(), mp_context=context) as pool:
            jobs = [pool.submit(_one, take, part, seed, number, split_of(number, images)) for number in range(images)]
            for number, job in enumerate(jobs):
                labels[split_of(number, images)].append(job.result())
                progress()
        (part / "annotations").mkdir()
        for split, found in labels.items():
            (part / "annotations" / f"{split}.json").write_bytes(orjson.dumps(_coco(found)))
        (part / "pipelines").mkdir()
        (part / "pipelines" / "lamp-drift.varlen.json").write_text(json.dumps(PIPELINE, indent=2) + "\n")
        if folder.exists():
            folder.rmdir()
        part.rename(folder)
    except OSError as error:
        shutil.rmtree(part, ignore_errors=True)
        raise EditionError(f"{error.filename or folder}: {error.strerror or error}") from None


def _one(take: Photograph, folder: Path, seed: int, number: int, split: str) -> tuple[str, list[Seen]]:
    pixels, seen = take(seed, number)
    name = f"night_{number + 1:04d}.jpg"
    (folder / "images" / split / name).write_bytes(encode(pixels, "jpeg", 93))
    return name, seen


def _coco(found: list[tuple[str, list[Seen]]]) -> dict[str, Any]:
    points = {"keypoints": list(KEYPOINTS), "skeleton": [[a + 1, b + 1] for a, b in LINES]}
    images: list[dict[str, Any]] = []
    annotations: list[dict[str, Any]] = []
    for number, (name, seen) in enumerate(found, 1):
        images.append({"id": number, "file_name": name, "width": WIDTH, "height": HEIGHT})
        for moth in seen:
            annotations.append({"id": len(annotations) + 1, "image_id": number, **_annotation(moth, as_mask=len(annotations) % 4 == 3)})
    return {
        "info": {"description": "Night moth survey, a made-up dataset rendered by Varlen", "version": "1"},
        "images": images,
        "annotations": annotations,
        "categories": [{"id": place + 1, "name": species.name, "supercategory": "moth", **points} for place, species in enumerate(SPECIES)],
    }


def _annotation(moth: Seen, as_mask: bool) -> dict[str, Any]:
    """Polygons for most, a run-length mask for every fourth and for shapes with holes."""
    x0, y0, x1, y1 = moth.shape.bounds
    parts = list(moth.shape.geoms)
    area = round(moth.shape.area, 2)
    segmentation: Any = [np.round(np.array(part.exterior.coords)[:-1].ravel(), 2).tolist() for part in parts]
    if as_mask or any(part.interiors for part in parts):
        mask = _raster(moth)
        rows, columns = np.flatnonzero(mask.any(1)), np.flatnonzero(mask.any(0))
        x0, y0, x1, y1 = int(columns[0]), int(rows[0]), int(columns[-1]) + 1, int(rows[-1]) + 1
        area = int(mask.sum())
        segmentation = {"size": [HEIGHT, WIDTH], "counts": encode_mask(mask)}
    points = np.where(moth.keypoints[:, 2:] > 0, moth.keypoints - [0.5, 0.5, 0.0], 0.0)
    return {
        "category_id": moth.species + 1,
        "bbox": [round(float(value), 2) for value in (x0, y0, x1 - x0, y1 - y0)],
        "area": area,
        "segmentation": segmentation,
        "keypoints": np.round(points, 2).ravel().tolist(),
        "num_keypoints": int((points[:, 2] > 0).sum()),
        "iscrowd": 0,
    }


def _raster(moth: Seen) -> np.ndarray:
    """Pixels whose centre lies in the shape."""
    import shapely

    x0, y0, x1, y1 = (int(value) for value in moth.shape.bounds)
    y, x = np.mgrid[max(y0, 0) : min(y1 + 2, HEIGHT), max(x0, 0) : min(x1 + 2, WIDTH)]
    mask = np.zeros((HEIGHT, WIDTH), np.uint8)
    mask[y, x] = shapely.contains_xy(moth.shape, x + 0.5, y + 0.5)
    return mask
