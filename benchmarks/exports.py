"""Writing editions: against the codec floor, with two processes, with many images, and fed to training instead."""

from __future__ import annotations

import io
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import orjson
from PIL import Image
from varlen.datasets.dataset import Dataset
from varlen.datasets.formats.coco_writing import describe_objects
from varlen.datasets.image_files import decode, encode
from varlen.draws import Stream
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.pipeline.document import Pipeline, from_json, read
from varlen.render.renderer import Renderer
from varlen.render.samples import stream

from benchmarks.timing import Table

ROUNDS = 5
FEW, MANY = 1_000, 100_000
#: The pipeline that the export's target is stated for.
USUAL = {
    "varlen_pipeline": 1,
    "name": "usual",
    "seed": 3,
    "steps": [
        {"step": "flip", "probability": 0.5},
        {"step": "rotate", "degrees": [-12, 12]},
        {"step": "scale", "factor": [0.8, 1.25]},
        {"step": "color_jitter", "brightness_factor": [0.7, 1.3], "hue_degrees": [-5, 5]},
        {"step": "resize", "width_px": 640, "height_px": 640, "fit": "letterbox", "scope": "every"},
    ],
}


def measure(survey: Path) -> list[Table]:
    from varlen.datasets.formats import read_dataset

    demo, lamp_drift, usual = read_dataset(survey), read(survey / "pipelines" / "lamp-drift.varlen.json"), from_json(USUAL)
    with tempfile.TemporaryDirectory() as folder:
        _boxes_and_outlines(survey, Path(folder) / "survey")
        dataset = read_dataset(Path(folder) / "survey")
        return [
            _against_floor("flip, rotate, scale, color_jitter and letterbox to 640, boxes and outlines", dataset, usual, "≤ 1.4 ×"),
            _against_floor("the demo's pipeline with all its labels", demo, lamp_drift, "≤ 1.7 ×"),
        ]


def _boxes_and_outlines(survey: Path, out: Path) -> None:
    """The survey without masks and keypoints."""
    (out / "annotations").mkdir(parents=True)
    shutil.copytree(survey / "images", out / "images")
    for path in (survey / "annotations").iterdir():
        coco = json.loads(path.read_text())
        for each in coco["annotations"]:
            if isinstance(each.get("segmentation"), dict):
                each["segmentation"] = []
            each.pop("keypoints", None)
            each.pop("num_keypoints", None)
        for category in coco["categories"]:
            category.pop("keypoints", None)
            category.pop("skeleton", None)
        (out / "annotations" / path.name).write_text(json.dumps(coco))


def _against_floor(what: str, dataset: Dataset, pipeline: Pipeline, target: str) -> Table:
    table = Table(f"Export: {what}; {len(dataset.entries)} images of 960×720 px, 3 variants, JPEG quality 90", "what", "value", "target")
    order = ExportSpec(variants=3, originals=False)
    written = _export(dataset, pipeline, 1, order)
    # Turn by turn, so that a busy spell of the machine hits all alike.
    lossless = ExportSpec(variants=3, originals=False, image="png")
    turns = [
        (
            *_floor(dataset, written[1]), _export(dataset, pipeline, 1, order)[0], _fed(dataset, pipeline),
            _export(dataset, pipeline, 1, lossless)[0],
        )
        for _ in range(ROUNDS)
    ]  # fmt: skip
    read, coded, one, fed, png = (min(turn[place] for turn in turns) for place in range(5))
    floor = read + coded
    more = ExportSpec(variants=16, originals=False)
    pairs = [(_export(dataset, pipeline, 1, more)[0], _export(dataset, pipeline, 2, more)[0]) for _ in range(2)]
    count = len(written[1])
    training = len(dataset.by_split()["train"])
    table.add("codec floor (Pillow decodes each source, encodes and writes each output), ms an image", floor / count * 1000, "")
    table.add("export, one process, ms an image", one / count * 1000, "")
    table.add("export against the floor", f"{one / floor:.2f} ×", target)
    single, double = (min(pair[place] for pair in pairs) for place in range(2))
    further = (single - one) / (training * (16 - 3))
    table.add("what one more variant takes against encoding and writing it", f"{further / (coded / count):.2f} ×", "≤ 1.2 ×")
    table.add("the same export as PNG, against JPEG", f"{png / one:.2f} ×", "≤ 2.2 ×")
    table.add("two processes against one, 16 variants, start-up included", f"{single / double:.2f} ×", "≥ 1.85 ×")
    table.add(
        "varlen.stream, one process: samples a second against the export's images a second", f"{(training / fed) / (count / one):.2f} ×", "≥ 0.95 ×"
    )
    _parts(table, dataset, pipeline)
    return table


def _export(dataset: Dataset, pipeline: Pipeline, workers: int, order: ExportSpec) -> tuple[float, list[bytes]]:
    with tempfile.TemporaryDirectory() as folder:
        out = Path(folder) / "out"
        start = time.perf_counter()
        export(dataset, pipeline, out, order, workers=workers)
        taken = time.perf_counter() - start
        rows = [json.loads(line) for line in (out / "rows.jsonl").read_text().splitlines()]
        return taken, [(out / row["file"]).read_bytes() for row in rows]


def _floor(dataset: Dataset, files: list[bytes]) -> tuple[float, float]:
    """Seconds that Pillow takes to decode all sources, and to encode all outputs and write them; source after source, as an export does."""
    pictures = [decode(data, "output") for data in files]
    each = len(pictures) / len(dataset.entries)
    reading = coding = 0.0
    with tempfile.TemporaryDirectory() as folder:
        written = 0
        for place, key in enumerate(dataset.entries):
            start = time.perf_counter()
            Image.open(io.BytesIO(dataset.source(key))).load()
            read = time.perf_counter()
            while written < round((place + 1) * each):
                (Path(folder) / f"{written}.jpg").write_bytes(encode(pictures[written], "jpeg", 90))
                written += 1
            reading, coding = reading + read - start, coding + time.perf_counter() - read
    return reading, coding


def _fed(dataset: Dataset, pipeline: Pipeline) -> float:
    samples = stream(dataset, pipeline)
    start = time.perf_counter()
    for number in range(len(samples)):
        samples[number]
    return time.perf_counter() - start


def many(survey: Path) -> Table:
    """Small pictures, so that the bookkeeping shows: a hundred times the images, at what rate and in how much memory."""
    table = Table(f"Export of {MANY:,} images against {FEW:,}, 160×120 px, 5 boxes each, one process", "what", "value", "target")
    picture = Image.open(next((survey / "images" / "train").iterdir())).resize((160, 120))
    found = {}
    for count in (FEW, MANY):
        with tempfile.TemporaryDirectory() as folder:
            _repeat(picture, Path(folder) / "in", count)
            (Path(folder) / "p.json").write_text(json.dumps(USUAL | {"steps": [*USUAL["steps"][:2]]}))  # type: ignore[index]
            command = [sys.executable, "-c", _MEASURED, folder]
            answer = json.loads(subprocess.run(command, check=True, stdout=subprocess.PIPE, env={**os.environ, "PYTHONHASHSEED": "0"}).stdout)
            found[count] = answer
            table.add(f"{count:,}: images a second, reading labels and assembling included", count / answer["seconds"], "")
            table.add(f"{count:,}: most memory, MB", answer["megabytes"], "")
    table.add("rate, many against few", (MANY / found[MANY]["seconds"]) / (FEW / found[FEW]["seconds"]), "≥ 0.9")
    table.add("memory, many against few", found[MANY]["megabytes"] / found[FEW]["megabytes"], "≤ 1.1")
    return table


_MEASURED = """
import json, re, sys, time
from pathlib import Path
from varlen.editions.export import export
from varlen.editions.export_spec import ExportSpec
from varlen.datasets.formats import read_dataset
from varlen.pipeline.document import read
folder = Path(sys.argv[1])
start = time.perf_counter()
export(read_dataset(folder / "in"), read(folder / "p.json"), folder / "out", ExportSpec(variants=1, originals=False))
taken = time.perf_counter() - start
# Not what getrusage says, which counts the process that this one was started from.
most = re.search(r"VmHWM:\\s+(\\d+)", Path("/proc/self/status").read_text())
print(json.dumps({"seconds": taken, "megabytes": int(most[1]) / 1024}))
"""


def _repeat(picture: Image.Image, folder: Path, count: int) -> None:
    """A COCO set of one picture under many names, each with another last byte of its comment."""
    (folder / "images" / "train").mkdir(parents=True)
    (folder / "annotations").mkdir()
    random = np.random.default_rng(1)
    for number in range(200):
        out = io.BytesIO()
        picture.save(out, "JPEG", quality=90, comment=f"{number:04d}".encode())
        (folder / f"{number}.jpg").write_bytes(out.getvalue())
    images, annotations = [], []
    for number in range(count):
        name = f"night_{number:06d}.jpg"
        os.link(folder / f"{number % 200}.jpg", folder / "images" / "train" / name)
        images.append({"id": number, "file_name": f"images/train/{name}", "width": 160, "height": 120})
        for place, (x, y) in enumerate(random.integers(0, 90, (5, 2)).tolist()):
            box = [x, y, 25, 20]
            annotations.append({"id": 5 * number + place, "image_id": number, "category_id": 1 + place % 2, "bbox": box, "area": 500, "iscrowd": 0})
    categories = [{"id": 1, "name": "ash veil"}, {"id": 2, "name": "dusk marble"}]
    (folder / "annotations" / "train.json").write_bytes(orjson.dumps({"images": images, "annotations": annotations, "categories": categories}))
    for number in range(200):
        (folder / f"{number}.jpg").unlink()


def _parts(table: Table, dataset: Dataset, pipeline: Pipeline) -> None:
    """Where the time beyond the codecs goes."""
    renderer = Renderer(dataset, pipeline)
    work = [(key, variant) for key in dataset.by_split()["train"] for variant in range(1, 4)]
    plans = [renderer.plan(*item) for item in work]
    for plan in plans:
        renderer.pixels(plan)
    start = time.perf_counter()
    for plan in plans:
        renderer.pixels(plan)
    pixels = time.perf_counter() - start
    start = time.perf_counter()
    outcomes = [renderer.variant_labels(*item) for item in work]
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
