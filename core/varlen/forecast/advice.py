"""Advice: things in a pipeline that are allowed but rarely intended, each with its reason.

It is derived from the pipeline, the dataset's labels and a sample of draws; it never stops anything.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from varlen.datasets.dataset import Dataset
from varlen.datasets.summary import evenly_spaced
from varlen.errors import RenderError
from varlen.pipeline.document import Pipeline
from varlen.render.renderer import Renderer

#: A class's marks: it must not be mirrored, it must stay upright.
MARKS = ("not-mirrored", "upright")
SAMPLE = 40
MOST_LABELS = 500
MUCH_BLANK = 0.10
LOOSE = 1.15
#: Degrees from which a rotation is more than a tilt of the camera.
STRONG = 15.0
#: The width of a blur at half its height, in standard deviations.
WIDTH = 2.355


@dataclass(frozen=True, slots=True)
class Advice:
    """What was noticed. kind and step name it, so that it can be dismissed; step "" is the whole pipeline."""

    kind: str
    step: str
    says: str
    why: str

    def to_json(self) -> dict[str, Any]:
        """As plain values."""
        return asdict(self)


def advice_on(
    dataset: Dataset, pipeline: Pipeline, marks: Mapping[str, list[str]] | None = None, pause: Callable[[], None] = lambda: None
) -> list[Advice]:
    """All advice, in the order of the steps. marks: of classes, see `MARKS`; pause: called between the images examined."""
    steps = [step for step in pipeline.all_steps() if step.enabled]
    found = [
        *_of_keypoints(dataset, steps),
        *_of_marks(dataset, steps, marks or {}),
        *_of_scope(steps),
        *_of_order(pipeline),
        *_of_blur(dataset, steps),
    ]
    return [*found, *_of_draws(dataset, pipeline, steps, pause)]


def _mirrors(steps: list[Any]) -> Iterator[Any]:
    return (step for step in steps if step.step == "flip")


def _of_keypoints(dataset: Dataset, steps: list[Any]) -> Iterator[Advice]:
    paired = any(other != place for place, other in enumerate(dataset.swap.tolist()))
    sided = [name for name in dataset.skeleton.names if re.search(r"(?<![a-z])(left|right)(?![a-z])", name, re.I)]
    for step in _mirrors(steps):
        if paired and step.direction in ("vertical", "both"):
            yield Advice("vertical-flip", step.id, "An upside-down flip swaps left and right keypoints.",
                       "Upside down, a left wing stays on the animal's left only if the camera looks straight down.")  # fmt: skip
        if sided and not paired:
            yield Advice("no-pairs", step.id, f"Keypoints such as “{sided[0]}” have no mirror partner.",
                       "After a flip the left one would be learned as the right one; name both sides alike, or give the pairs.")  # fmt: skip


def _of_marks(dataset: Dataset, steps: list[Any], marks: Mapping[str, list[str]]) -> Iterator[Advice]:
    for mark, verb in (("not-mirrored", "must not be mirrored"), ("upright", "must stay upright")):
        names = [name for name in (*dataset.classes, *dataset.map_classes) if mark in marks.get(name, [])]
        if not names:
            continue
        said = ", ".join(names[:3]) + (" …" if len(names) > 3 else "")
        for step in steps:
            mirrors = step.step == "flip"
            upends = (step.step == "flip" and step.direction in ("vertical", "both")) or (
                step.step == "rotate" and max(abs(end) for end in step.degrees) > STRONG
            )
            if (mark == "not-mirrored" and mirrors) or (mark == "upright" and upends):
                yield Advice(mark, step.id, f"{said}: {verb}.", "The class is marked so on the dataset's page, and this step does it.")


def _of_scope(steps: list[Any]) -> Iterator[Advice]:
    for step in steps:
        spans = [value for value in step.__dict__.values() if isinstance(value, tuple) and len(value) == 2 and value[0] != value[1]]
        numbers = any(all(isinstance(end, (int, float)) for end in span) for span in spans)
        if step.scope == "every" and (step.probability < 1 or (numbers and step.step not in ("resize", "crop", "pad"))):
            yield Advice("random-everywhere", step.id, "A random step changes every split, evaluation included.",
                       "Scores on validation and test would depend on the draw; keep chance to the training split.")  # fmt: skip


def _of_order(pipeline: Pipeline) -> Iterator[Advice]:
    on = [step for step in pipeline.steps if step.enabled]
    for place, step in enumerate(on):
        later = on[place + 1 :]
        if step.step == "resize" and any(other.kind == "geometry" and other.step not in ("resize", "pad", "crop") for other in later):
            yield Advice("resize-early", step.id, "The picture is made smaller before it is moved.",
                       "Steps after it work with fewer pixels, and what they expose can't be filled from the larger picture.")  # fmt: skip
        if step.step == "noise" and any(other.step == "resize" for other in later):
            yield Advice("noise-resized", step.id, "Noise is averaged away by the resize after it.",
                       "A sensor's noise is there at the size the model sees; put it after the resize.")  # fmt: skip
        if step.step == "compress" and any(other.step == "noise" for other in later):
            yield Advice("noise-late", step.id, "Noise comes after the compression.", "A camera compresses what its sensor saw, noise included.")


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


def _of_draws(dataset: Dataset, pipeline: Pipeline, steps: list[Any], pause: Callable[[], None]) -> Iterator[Advice]:
    """What a sample of variants shows: blank area, and boxes that grow loose."""
    turns = [step for step in steps if step.step in ("rotate", "shear", "perspective", "elastic")]
    renderer = Renderer(dataset, pipeline)
    images = dataset.by_split().get("train") or list(dataset.entries)
    blanks, growths = [], []
    for key in evenly_spaced(images, SAMPLE):
        pause()
        try:
            outcome = renderer.variant_labels(key, 1)
        except RenderError:
            continue
        blanks.append(outcome.trace["blank_share"])
        objects = outcome.objects
        outlined = np.isin(np.arange(len(objects)), objects.outlines.owners) | np.array([mask is not None for mask in objects.masks], np.bool_)
        growths.extend(objects.growth[~outlined].tolist())
    if blanks and float(np.mean(blanks)) > MUCH_BLANK:
        yield Advice("blank", "", f"{np.mean(blanks):.0%} of the average picture is blank.",
                   "A model may learn the fill; move less, or choose edges that are filled from the picture.")  # fmt: skip
    if turns and growths and float(np.mean(growths)) > LOOSE:
        yield Advice("loose-boxes", turns[0].id, f"Boxes without outlines grow by {np.mean(growths) - 1:.0%} when turned.",
                   "Only the box's corners can be turned, so the new box is larger than the object; turn less, or label outlines.")  # fmt: skip
