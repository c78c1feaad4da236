"""Writing an edition against the codec floor: decode each source once, encode each output once, nothing else."""

from __future__ import annotations

import json
import tempfile
import time
from pathlib import Path

from varlen.codec import decode, encode
from varlen.dataset import Dataset
from varlen.draws import Stream
from varlen.export import Order, export
from varlen.formats.coco import describe_objects
from varlen.pipeline import Pipeline, read
from varlen.render import Renderer

from benchmarks.timing import Table

ROUNDS = 5


def measure(survey: Path) -> Table:
    from varlen.formats import read_dataset

    dataset, pipeline = read_dataset(survey), read(survey / "pipelines" / "lamp-drift.varlen.json")
    table = Table(f"Export of the demo, {len(dataset.entries)} images of 960×720 px, 3 variants, JPEG quality 90", "what", "value", "target")
    written = _export(dataset, pipeline, 1)
    # Turn by turn, so that a busy spell of the machine hits both alike.
    turns = [(_floor(dataset, written[1]), _export(dataset, pipeline, 1)[0]) for _ in range(ROUNDS)]
    floor, one = min(turn[0] for turn in turns), min(turn[1] for turn in turns)
    two = min(_export(dataset, pipeline, 2)[0] for _ in range(ROUNDS))
    count = len(written[1])
    table.add("codec floor, ms an image", floor / count * 1000, "")
    table.add("export, one process, ms an image", one / count * 1000, "")
    table.add("export against the floor", f"{one / floor:.2f} ×", "≤ 2.5 ×")
    table.add("two processes, start-up included, against one", f"{one / two:.2f} ×", "")
    _parts(table, dataset, pipeline)
    return table


def _export(dataset: Dataset, pipeline: Pipeline, workers: int) -> tuple[float, list[bytes]]:
    with tempfile.TemporaryDirectory() as folder:
        out = Path(folder) / "out"
        start = time.perf_counter()
        export(dataset, pipeline, out, Order(), workers=workers)
        taken = time.perf_counter() - start
        rows = [json.loads(line) for line in (out / "rows.jsonl").read_text().splitlines()]
        return taken, [(out / row["file"]).read_bytes() for row in rows]


def _floor(dataset: Dataset, files: list[bytes]) -> float:
    pictures = [decode(data, "output") for data in files]
    sources = [(key, dataset.source(key)) for key in dataset.entries]
    start = time.perf_counter()
    for key, data in sources:
        decode(data, key)
    for picture in pictures:
        encode(picture, "jpeg", 90)
    return time.perf_counter() - start


def _parts(table: Table, dataset: Dataset, pipeline: Pipeline) -> None:
    """Where the time beyond the codecs goes."""
    renderer = Renderer(dataset, pipeline)
    work = [(key, variant) for key, entry in dataset.entries.items() if entry.split == "train" for variant in range(4)]
    plans = [renderer.plan(*item) for item in work]
    for plan in plans:
        renderer.pixels(plan)
    start = time.perf_counter()
    for plan in plans:
        renderer.pixels(plan)
    pixels = time.perf_counter() - start
    start = time.perf_counter()
    outcomes = [renderer.outcome(*item) for item in work]
    labels = time.perf_counter() - start
    start = time.perf_counter()
    for outcome in outcomes:
        describe_objects(outcome.objects, outcome.size, dataset)
    written = time.perf_counter() - start
    draws = 20_000
    step = pipeline.steps[1]
    start = time.perf_counter()
    for number in range(draws):
        Stream(1, "images/train/night_0001.jpg", number, step.id).uniform(-12, 12)
    drawn = time.perf_counter() - start
    table.add("pixels of a variant from decoded sources, ms", pixels / len(work) * 1000, "")
    table.add("draws, plan and labels of a variant, ms", labels / len(work) * 1000, "")
    table.add("labels in COCO form, ms", written / len(work) * 1000, "")
    table.add("one step's stream and draw, µs", drawn / draws * 1e6, "≤ 4")
