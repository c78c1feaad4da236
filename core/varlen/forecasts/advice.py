"""Advice: things in a pipeline that are allowed but rarely intended, each with its reason.

It is derived from the pipeline (see `varlen.pipeline.advice`), the dataset's labels and a sample of draws; it never stops anything.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from typing import Any

import numpy as np

from varlen.datasets.dataset import Dataset
from varlen.datasets.summary import evenly_spaced
from varlen.errors import RenderError
from varlen.pipeline.advice import Advice, advice_on_pipeline
from varlen.pipeline.document import Pipeline
from varlen.render.renderer import Renderer

#: A class's marks: it must not be mirrored, it must stay upright.
MARKS = ("not-mirrored", "upright")
SAMPLE = 40
#: Objects of a class in the sample from which something can be said of it, and how much less of it is kept than of all.
FEWEST_OF_CLASS, RARER = 15, 0.85
MOST_LABELS = 500
MUCH_BLANK = 0.10
LOOSE = 1.15
#: Degrees from which a rotation is more than a tilt of the camera.
STRONG = 15.0
#: The width of a blur at half its height, in standard deviations.
WIDTH = 2.355


def advice_on(
    dataset: Dataset, pipeline: Pipeline, marks: Mapping[str, list[str]] | None = None, pause: Callable[[], None] = lambda: None, draws: bool = True
) -> list[Advice]:
    """All advice, in the order of the steps.

    marks: of classes, see `MARKS`; pause: called between the images examined; draws: also what a sample of variants shows.
    """
    steps = [step for step in pipeline.all_steps() if step.enabled]
    found = [
        *_of_keypoints(dataset, steps),
        *_of_marks(dataset, steps, marks or {}),
        *advice_on_pipeline(pipeline),
        *_of_blur(dataset, steps),
    ]
    return [*found, *_of_draws(dataset, pipeline, steps, pause)] if draws else found


def _of_keypoints(dataset: Dataset, steps: list[Any]) -> Iterator[Advice]:
    paired = any(other != place for place, other in enumerate(dataset.swap.tolist()))
    unpaired = dataset.skeleton.unpaired()
    told = False
    for step in steps:
        ways = step.mirrors
        if paired and ways & {"vertical"}:
            yield Advice("vertical-flip", step.id, "An upside-down flip swaps left and right keypoints.",
                       "Upside down, a left wing stays on the animal's left only if the camera looks straight down.")  # fmt: skip
        if unpaired and ways & {"horizontal", "vertical"} and not told:
            told = True
            said = ", ".join(f"“{name}”" for name in unpaired[:3]) + (" …" if len(unpaired) > 3 else "")
            yield Advice("no-pairs", step.id, f"Keypoints such as {said} have no mirror partner.",
                       "After a flip the left one would be learned as the right one; name both sides alike, or give the pairs.")  # fmt: skip
        if dataset.mirror_classes and ways & {"vertical", "both"}:
            one, other = next(iter(dataset.mirror_classes.items()))
            yield Advice("upside-down-classes", step.id, f"{one} and {other} are mirror images of each other, and this step turns them upside down.",
                       "Only a mirror from left to right exchanges them; after half a turn each may look like the other.")  # fmt: skip


def _of_marks(dataset: Dataset, steps: list[Any], marks: Mapping[str, list[str]]) -> Iterator[Advice]:
    for mark, verb in (("not-mirrored", "must not be mirrored"), ("upright", "must stay upright")):
        # A class may be one of objects and of pixels at once.
        names = [name for name in dict.fromkeys((*dataset.classes, *dataset.map_classes)) if mark in marks.get(name, [])]
        if not names:
            continue
        said = ", ".join(names[:3]) + (" …" if len(names) > 3 else "")
        for step in steps:
            if (mark == "not-mirrored" and step.mirrors) or (mark == "upright" and step.most_turn > STRONG):
                yield Advice(mark, step.id, f"{said}: {verb}.", "The class is marked so on the dataset's page, and this step does it.")


def _of_blur(dataset: Dataset, steps: list[Any]) -> Iterator[Advice]:
    smallest = [float((objects.boxes[:, 2:] - objects.boxes[:, :2]).min()) for objects in _labels(dataset) if len(objects)]
    if not smallest:
        return
    side = float(np.quantile(smallest, 0.05))
    for step in steps:
        widest = step.sigma_px[1] * WIDTH if step.step == "blur" else 0.0
        if widest > side > 0:
            yield Advice("blur-wide", step.id, f"Blurred over {widest:.0f} px, while the smallest objects are {side:.0f} px.",
                       "They would be smeared beyond recognition, and still be labelled.")  # fmt: skip


def _labels(dataset: Dataset) -> Iterator[Any]:
    """Of so many images, evenly spread, that more would change nothing."""
    return (dataset.entries[key].objects for key in evenly_spaced(list(dataset.entries), MOST_LABELS))


def _of_balance(before: Counter[str], after: Counter[str]) -> Iterator[Advice]:
    """Whether a rare class gets rarer, or losses fall on one class. before, after: objects of each class in a sample of variants."""
    told = {name: count for name, count in before.items() if count >= FEWEST_OF_CLASS}
    if len(told) < 2:
        return
    kept = {name: after[name] / count for name, count in told.items()}
    whole = sum(after[name] for name in told) / sum(told.values())
    rarest = min(told, key=lambda name: told[name])
    worst = min(kept, key=lambda name: kept[name])
    if kept[rarest] < RARER * whole:
        yield Advice("rarer", "", f"{rarest}, a rare class, gets rarer: {kept[rarest]:.0%} of its objects are kept, of all {whole:.0%}.",
                   "The trainer sees still less of it; lose less, or order more variants of its images (--balance).")  # fmt: skip
    elif kept[worst] < RARER * whole:
        yield Advice("one-class", "", f"Losses fall on {worst}: {kept[worst]:.0%} of its objects are kept, of all {whole:.0%}.",
                   "A model would learn it from fewer examples than the dataset has; see which step loses them in the forecast.")  # fmt: skip


def _of_draws(dataset: Dataset, pipeline: Pipeline, steps: list[Any], pause: Callable[[], None]) -> Iterator[Advice]:
    """What a sample of variants shows: blank area, and boxes that grow loose."""
    turns = [step for step in steps if step.step in ("rotate", "shear", "perspective", "elastic")]
    renderer = Renderer(dataset, pipeline)
    images = dataset.by_split().get("train") or list(dataset.entries)
    blanks, growths = [], []
    before, after = Counter[str](), Counter[str]()
    for key in evenly_spaced(images, SAMPLE):
        pause()
        try:
            outcome = renderer.variant_labels(key, 1)
        except RenderError:
            continue
        blanks.append(outcome.trace["blank_share"])
        objects = outcome.objects
        before.update(dataset.classes[number] for number in dataset.entries[key].objects.classes.tolist())
        after.update(dataset.classes[number] for number in objects.classes.tolist())
        outlined = np.isin(np.arange(len(objects)), objects.outlines.owners) | np.array([mask is not None for mask in objects.masks], np.bool_)
        growths.extend(objects.growth[~outlined].tolist())
    if blanks and float(np.mean(blanks)) > MUCH_BLANK:
        yield Advice("blank", "", f"{np.mean(blanks):.0%} of the average picture is blank.",
                   "A model may learn the fill; move less, or choose edges that are filled from the picture.")  # fmt: skip
    yield from _of_balance(before, after)
    if turns and growths and float(np.mean(growths)) > LOOSE:
        yield Advice("loose-boxes", turns[0].id, f"Boxes without outlines grow by {np.mean(growths) - 1:.0%} when turned.",
                   "Only the box's corners can be turned, so the new box is larger than the object; turn less, or label outlines.")  # fmt: skip
