"""The door for code: what a render costs beside its kernels, and how fast training is fed."""

from __future__ import annotations

import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import varlen as v
from varlen.render.renderer import Renderer
from varlen.render.source_pictures import PictureCache

from benchmarks.timing import Table

ROUNDS = 300
VARIANTS = 100
WIDTH, HEIGHT, OBJECTS = 640, 480, 10
CACHE_BYTES = 64 << 20


def measure(survey: Path) -> Table:
    """Overheads in ms, turn by turn with the kernels alone; rates as ratios of one run."""
    table = Table("The door for code: 640×480 array; flip, rotate, color", "what", "measured", "target")
    pipeline = v.Pipeline([v.Flip(), v.Rotate(degrees=(-12, 12), edges="mirror"), v.ColorJitter()], seed=3)
    image = np.random.default_rng(0).integers(0, 255, (HEIGHT, WIDTH, 3)).astype(np.uint8)
    boxes = [[20 + 40 * n, 30 + 20 * n, 60 + 40 * n, 70 + 20 * n] for n in range(OBJECTS)]
    labels = v.Labels(boxes=boxes, classes=["moth"] * OBJECTS)
    outs = [pipeline.render(image, variant=variant) for variant in range(VARIANTS)]

    def kernels(variant: int) -> object:
        return outs[variant]._renderer.pixels(outs[variant]._plan)

    def plain(variant: int) -> object:
        return pipeline.render(image, variant=variant).image

    def labelled(variant: int) -> object:
        out = pipeline.render(image, labels, variant=variant)
        return out.image, out.boxes, out.classes, out.kept, out.lost

    alone, without = beside(kernels, plain)
    _, with_ten = beside(kernels, labelled)
    table.add("the kernels alone, ms", f"{alone:.2f}", "")
    table.add("render over the kernels alone, without labels, ms", f"{without:.2f}", "≤ 0.5")
    table.add("… with ten objects, all their parts asked for, ms", f"{with_ten:.2f}", "≤ 1")
    fed, made, batched = rates(survey)
    table.add("stream, one process, against an export without encoding", f"{fed / made:.2f} ×", "≥ 0.95 ×")
    table.add("batches of 8 in two processes against the stream in one", f"{batched / fed:.2f} ×", "")
    table.add("cold start of `varlen steps`, s", f"{cold():.2f}", "≤ 0.3")
    return table


def beside(kernels: Callable[[int], object], whole: Callable[[int], object]) -> tuple[float, float]:
    """Median ms of the kernels, and of what the whole takes beyond them, one after the other each time."""
    alone, more = [], []
    for place in range(ROUNDS + 20):
        variant = place % VARIANTS
        begun = time.perf_counter()
        kernels(variant)
        between = time.perf_counter()
        whole(variant)
        done = time.perf_counter()
        if place >= 20:
            alone.append(between - begun)
            more.append(done - between - (between - begun))
    return statistics.median(alone) * 1e3, statistics.median(more) * 1e3


def rates(survey: Path) -> tuple[float, float, float]:
    """Samples a second of a stream, of an export that would stop before its codecs, and of batches in two processes."""
    dataset = v.read_dataset(survey)
    pipeline = v.Pipeline.read(survey / "pipelines" / "lamp-drift.varlen.json")
    samples = v.stream(dataset, pipeline)
    numbers = range(len(samples))
    fed, made = [], []
    for epoch in range(5):  # the first round warms up both
        samples.set_epoch(epoch)
        renderer = Renderer(dataset, pipeline, PictureCache(CACHE_BYTES))
        begun = time.perf_counter()
        for number in numbers:
            samples[number]
        between = time.perf_counter()
        for number in numbers:
            renderer.render(samples.keys[number], epoch + 1)
        fed.append(len(numbers) / (between - begun))
        made.append(len(numbers) / (time.perf_counter() - between))
    with samples.batches(8, workers=2) as batches:
        list(batches)
        begun = time.perf_counter()
        count = sum(len(batch["keys"]) for _ in range(3) for batch in batches)
        batched = count / (time.perf_counter() - begun)
    return statistics.median(fed[1:]), statistics.median(made[1:]), batched


def cold() -> float:
    """Seconds from nothing to the end of a command that needs no pixels, the median of several."""
    taken = []
    for _ in range(7):
        begun = time.perf_counter()
        subprocess.run([Path(sys.executable).with_name("varlen"), "steps"], stdout=subprocess.DEVNULL, check=True)
        taken.append(time.perf_counter() - begun)
    return statistics.median(taken)
