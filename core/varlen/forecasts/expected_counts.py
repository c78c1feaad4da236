"""What an order would make, before anything is written: images, labels of each class, bytes and seconds."""

from __future__ import annotations

import statistics
import time
from collections import Counter
from collections.abc import Iterator
from typing import Any

from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import WRITERS
from varlen.datasets.summary import evenly_spaced
from varlen.editions.allotment import TRAINING, Allotment
from varlen.editions.chunks import fitting_workers
from varlen.editions.export_spec import ExportSpec
from varlen.errors import VarlenError
from varlen.pipeline.document import Pipeline
from varlen.render.renderer import Renderer

#: Images made to tell.
MEASURED = 6
#: What starting the processes of an export takes, seconds.
START_SECONDS = 1.5


def cost_of_one(renderer: Renderer, spec: ExportSpec, allotment: Allotment, images: int = MEASURED) -> tuple[float, float]:
    """Bytes, and seconds of one processor core, of an average image; (0, 0) where none can be made. images: how many are made to tell."""
    writer = WRITERS[spec.format](renderer.dataset)
    sizes, seconds = [], []
    for key, variant in _spread(allotment, images):
        # This thread's own time: what else the machine does meanwhile is no part of it.
        start = time.thread_time()
        try:
            sample, _ = renderer.render(key, variant)
        except VarlenError:
            continue
        sizes.append(len(writer.picture(sample.pixels, spec.image, spec.quality)))
        seconds.append(time.thread_time() - start)
    return (statistics.mean(sizes), statistics.median(seconds)) if sizes else (0.0, 0.0)


def _spread(allotment: Allotment, images: int) -> Iterator[tuple[str, int]]:
    """So many of all source images, evenly spaced, each with the last of its variants, which stands for all that are made of it."""
    chosen = evenly_spaced(range(sum(map(len, allotment.keys.values()))), images)
    first = 0
    for split, keys in allotment.keys.items():
        for place in (number - first for number in chosen if first <= number < first + len(keys)):
            if numbers := allotment.variants(split, place):
                yield keys[place], numbers[-1]
        first += len(keys)


def seconds_for(images: int, each: float, workers: int) -> float:
    """About how long an export of so many images takes. each: seconds of one processor core for one of them."""
    return round((START_SECONDS if workers > 1 else 0.0) + each * images / max(workers, 1), 1)


#: Variants of which labels are followed to tell.
FOLLOWED = 400


def outlook(dataset: Dataset, pipeline: Pipeline, spec: ExportSpec, workers: int | None = None) -> dict[str, Any]:
    """`counts` by split, `class_objects` of the training split before and after, `bytes`, and `seconds` with so many `workers`, as plain values.

    Labels before are counted exactly, and so are images; of labels after, those that the pipeline loses are forecast from
    `FOLLOWED` variants.
    """
    spec = spec.for_dataset(dataset)
    allotment = Allotment(dataset, spec, pipeline.seed)
    renderer = Renderer(dataset, pipeline)
    found = _counted(renderer, allotment)
    size, seconds = cost_of_one(renderer, spec, allotment)
    workers = workers or fitting_workers(dataset, found["total"])
    return {
        "format": spec.format,
        **found,
        "bytes": round(size * found["total"]),
        "workers": workers,
        "seconds": seconds_for(found["total"], seconds, workers),
    }


def labels_of_order(dataset: Dataset, pipeline: Pipeline, spec: ExportSpec) -> dict[str, Any]:
    """What a trainer would see of each class under an order: `counts` by split, `total` images and `class_objects` before and after."""
    spec = spec.for_dataset(dataset)
    return _counted(Renderer(dataset, pipeline), Allotment(dataset, spec, pipeline.seed))


def _counted(renderer: Renderer, allotment: Allotment) -> dict[str, Any]:
    """Images and labels of an order, those of the training split as far as the pipeline keeps them."""
    dataset = renderer.dataset
    kept = _kept_shares(renderer, allotment)
    counts: dict[str, dict[str, Any]] = {}
    for split, images in allotment.counts().items():
        objects, classes = _labels(dataset, allotment, split)
        after = {name: round(count * (kept.get(name, 1.0) if split == TRAINING else 1.0)) for name, count in objects.items()}
        counts[split] = {"images": images, "objects": sum(after.values()), "classes": after, **({"image_classes": dict(classes)} if classes else {})}
    total = sum(each["images"] for each in counts.values())
    return {"counts": counts, "total": total, "class_objects": class_labels(dataset, counts)}


def class_labels(dataset: Dataset, counts: dict[str, dict[str, Any]]) -> dict[str, dict[str, int]]:
    """Labels of each class in the training split, before and after."""
    before: Counter[str] = Counter()
    for key in dataset.by_split().get(TRAINING, ()):
        before.update(dataset.entries[key].labels(dataset.classes))
    after = counts.get(TRAINING, {})
    return {
        name: {"before": before[name], "after": after.get("classes", {}).get(name, 0) + after.get("image_classes", {}).get(name, 0)}
        for name in dataset.classes
        if TRAINING in counts
    }


def expected_labels(dataset: Dataset, allotment: Allotment) -> dict[str, dict[str, int]]:
    """Labels of each class in the training split, before, and after if the pipeline lost none."""
    counts = {}
    for split in allotment.keys:
        objects, classes = _labels(dataset, allotment, split)
        counts[split] = {"classes": dict(objects), "image_classes": dict(classes)}
    return class_labels(dataset, counts)


def _labels(dataset: Dataset, allotment: Allotment, split: str) -> tuple[Counter[str], Counter[str]]:
    """Objects and image classes of a split's images, each as often as the image is written."""
    objects, classes = Counter[str](), Counter[str]()
    for place, key in enumerate(allotment.keys[split]):
        times, entry = len(allotment.variants(split, place)), dataset.entries[key]
        for number in entry.objects.classes.tolist():
            objects[dataset.classes[number]] += times
        for name in entry.classes:
            classes[name] += times
    return objects, classes


def _kept_shares(renderer: Renderer, allotment: Allotment) -> dict[str, float]:
    """Of each class the share of labels that the pipeline keeps, over originals and variants as they are ordered."""
    keys = allotment.keys.get(TRAINING, ())
    before, after = Counter[str](), Counter[str]()
    classes = renderer.dataset.classes
    for place in evenly_spaced(range(len(keys)), FOLLOWED):
        numbers = allotment.variants(TRAINING, place)
        for variant in {numbers[0], numbers[-1]} if numbers else ():
            try:
                found = renderer.variant_labels(keys[place], variant).objects
            except VarlenError:
                continue
            before.update(classes[n] for n in renderer.dataset.entries[keys[place]].objects.classes.tolist())
            after.update(classes[n] for n in found.classes.tolist())
    return {name: after[name] / count for name, count in before.items()}
