"""Labels alone: ten objects with outlines and keypoints through five geometry steps, and forecasts."""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np
from varlen.datasets.dataset import Dataset
from varlen.datasets.entry import Entry
from varlen.datasets.skeleton import Skeleton
from varlen.datasets.sources import Folder
from varlen.forecasts.label_forecast import count_draws
from varlen.model.geometry import Size
from varlen.model.objects import Part, make_objects
from varlen.pipeline.document import from_json, read
from varlen.render.renderer import Renderer

from benchmarks.timing import Table

FIVE = [
    {"step": "flip"}, {"step": "rotate"}, {"step": "scale", "factor": [0.9, 1.15]}, {"step": "shift", "x_fraction": [-0.05, 0.05]},
    {"step": "resize", "width_px": 640, "height_px": 640},
]  # fmt: skip
IMAGES, VARIANTS, OBJECTS = 10, 20, 10


class Scenes(Dataset):
    """Pictures of 960×720 px with ten objects each: outlines of 24 points, eight keypoints."""

    def __init__(self) -> None:
        rng = np.random.default_rng(0)
        self._picture = rng.integers(0, 256, (720, 960, 3)).astype(np.uint8)
        keys = [f"scene_{n}.jpg" for n in range(IMAGES)]
        names = ("head", "tip", *(f"{side} {part}" for part in "abc" for side in ("left", "right")))
        super().__init__(
            "scenes", list("abcd"), [_scene(key, rng) for key in keys], Folder(Path()), Skeleton(names), digests=dict.fromkeys(keys, "0" * 64)
        )

    def pixels(self, key: str) -> np.ndarray:
        return self._picture


def _scene(key: str, rng: np.random.Generator) -> Entry:
    centres = rng.uniform([90, 90], [870, 630], (OBJECTS, 2))
    angles = np.sort(rng.uniform(0, 2 * np.pi, (OBJECTS, 24)))
    radii = rng.uniform(20, 70, (OBJECTS, 1)) * rng.uniform(0.7, 1, (OBJECTS, 24))
    rings = centres[:, None] + np.stack([np.cos(angles), np.sin(angles)], 2) * radii[:, :, None]
    keypoints = np.concatenate([centres[:, None] + rng.uniform(-15, 15, (OBJECTS, 8, 2)), np.full((OBJECTS, 8, 1), 2.0)], 2)
    boxes = np.concatenate([rings.min(1), rings.max(1)], 1)
    objects = make_objects([str(n) for n in range(OBJECTS)], key, [n % 4 for n in range(OBJECTS)], boxes.tolist(), [(Part(ring),) for ring in rings],
                           [None] * OBJECTS, keypoints, [False] * OBJECTS, [{}] * OBJECTS)  # fmt: skip
    return Entry(key, "train", Size(960, 720), objects)


def measure(survey: Path) -> Table:
    from varlen.datasets.formats import read_dataset

    table = Table("Labels, 10 objects with outlines and keypoints through five geometry steps, one core", "what", "value", "target")
    renderer = Renderer(Scenes(), from_json({"varlen_pipeline": 1, "seed": 1, "steps": FIVE}))
    work = [(key, variant) for key in renderer.dataset.entries for variant in range(1, VARIANTS + 1)]
    plans = [renderer.plan(*each) for each in work]
    for each, plan in zip(work[:20], plans[:20], strict=True):
        renderer.variant_labels(*each, plan)
        renderer.pixels(plan)
    pixels = _seconds(lambda: [renderer.pixels(plan) for plan in plans])
    planning = _seconds(lambda: [renderer.plan(*each) for each in work])
    labels = _seconds(lambda: [renderer.variant_labels(*each, plan) for each, plan in zip(work, plans, strict=True)])
    table.add("pixels of a variant (960×720 to 640×640), ms", pixels / len(work) * 1000, "")
    table.add("draws and plan of a variant, ms", planning / len(work) * 1000, "")
    table.add("labels and trace of a variant, ms", labels / len(work) * 1000, "")
    table.add("labels and trace against pixels", f"{labels / pixels:.0%}", "≤ 15 %")
    for name, chosen, target in (
        ("five geometry steps", renderer, "≥ 200,000"), ("the demo's pipeline and masks", _demo(read_dataset(survey), survey), "≥ 50,000")
    ):  # fmt: skip
        count_draws(chosen, 100)
        start = time.perf_counter()
        tally = count_draws(chosen, 2000)
        taken = time.perf_counter() - start
        table.add(f"forecast, {name}: object-draws a second", f"{sum(tally.before.values()) / taken:,.0f}", target)
    return table


def _demo(dataset: Dataset, survey: Path) -> Renderer:
    return Renderer(dataset, read(survey / "pipelines" / "lamp-drift.varlen.json"))


def _seconds(work) -> float:  # type: ignore[no-untyped-def]
    taken = []
    for _ in range(5):
        start = time.perf_counter()
        work()
        taken.append(time.perf_counter() - start)
    return min(taken)
