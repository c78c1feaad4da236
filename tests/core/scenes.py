"""Little datasets for tests whose answers are worked out by hand: pictures of plain arithmetic, objects given as rows."""

from __future__ import annotations

from typing import Any

import numpy as np
from varlen.datasets.dataset import Dataset
from varlen.datasets.entry import Entry
from varlen.datasets.skeleton import Skeleton
from varlen.model.geometry import Size
from varlen.model.objects import Mask, Objects, Part, Polygon, make_objects
from varlen.render.renderer import Renderer

from tests.conftest import make_pipeline
from tests.core.golden.dataset import MemoryFiles, pattern, png

Row = dict[str, Any]
CLASSES = ("ash veil", "copper hook")
SIZE = Size(100, 80)


def ring(*points: tuple[float, float]) -> np.ndarray[Any, np.dtype[np.float64]]:
    return np.array(points, np.float64)


def square(x0: float, y0: float, x1: float, y1: float) -> np.ndarray[Any, np.dtype[np.float64]]:
    return ring((x0, y0), (x1, y0), (x1, y1), (x0, y1))


def polygon(*outlines: Any, holes: tuple[Any, ...] = ()) -> Polygon:
    """Parts by their outlines; the holes are the first one's."""
    first, *more = outlines
    return (Part(first, tuple(holes)), *(Part(each) for each in more))


def block(left: int, top: int, width: int, height: int) -> Mask:
    """A mask of ones."""
    return Mask(left, top, np.ones((height, width), np.uint8))


def objects_of(key: str, rows: list[Row]) -> Objects:
    """A row has `box`, or `polygon` or `mask` to take it from; and class, points, crowd, id, more where wanted."""
    boxes = []
    for row in rows:
        points = np.concatenate([part.outline for part in row["polygon"]]) if "polygon" in row else np.zeros((0, 2))
        boxes.append(row.get("box") or (list(row["mask"].box) if "mask" in row else [*points.min(axis=0), *points.max(axis=0)]))
    points = max((len(row.get("points", ())) for row in rows), default=0)
    return make_objects(
        [row.get("id", f"{n}") for n, row in enumerate(rows)], key, [row.get("class", 0) for row in rows], boxes,
        [row.get("polygon") for row in rows], [row.get("mask") for row in rows], [row.get("points", [[0.0, 0.0, 0.0]] * points) for row in rows],
        [row.get("crowd", False) for row in rows], [row.get("more", {}) for row in rows],
    )  # fmt: skip


def scene(images: dict[str, list[Row]], size: Size = SIZE, skeleton: Skeleton | None = None, **sizes: Size) -> Dataset:
    """Training images of one size, or of their own, with objects."""
    entries, files = [], {}
    for number, (key, rows) in enumerate(images.items()):
        own = sizes.get(key, size)
        files[key] = png(pattern(own.width, own.height, number))
        entries.append(Entry(key, "train", own, objects_of(key, rows), classes=(CLASSES[number % 2],)))
    return Dataset("scene", CLASSES, entries, MemoryFiles(files), skeleton)


def through(dataset: Dataset, *steps: dict[str, Any], image: str = "a", variant: int = 1, **labels: Any) -> tuple[Objects, dict[str, Any]]:
    """The objects and outcomes of one variant: those left, and for each lost or clipped one (reason, step, share), by id."""
    renderer = Renderer(dataset, make_pipeline(*steps, labels=labels))
    found = renderer.variant_labels(image, variant)
    outcomes = found.trace["objects"]
    said = {each["id"]: (word, each["reason"], each["step"], each["share"])
            for word, kind in (("clipped", "clipped_by"), ("dropped", "dropped")) for each in outcomes[kind]}  # fmt: skip
    assert outcomes["kept"] + outcomes["clipped"] == len(found.objects)
    assert outcomes["clipped"] == len(outcomes["clipped_by"])
    return found.objects, said


def window(left: int, top: int, width: int, height: int, **more: Any) -> dict[str, Any]:
    """A crop to a window."""
    return {"step": "crop", "mode": "window", "left_px": left, "top_px": top, "width_px": width, "height_px": height, "scope": "train", **more}


def said(problems: list[Any]) -> list[str]:
    """Problems of an edition as lines."""
    return [f"{each['file']}: {each['problem']}" for each in problems]
