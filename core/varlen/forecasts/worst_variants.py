"""The variants in which a pipeline does worst, from labels alone: most objects lost, most of the picture blank, loosest boxes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal, NamedTuple

from varlen.datasets.summary import evenly_spaced
from varlen.errors import RenderError
from varlen.labels.outcomes import SOURCE
from varlen.render.renderer import Renderer

By = Literal["lost", "blank", "loose"]
#: Variants that are looked at in all, and images of a large dataset.
DRAWS, IMAGES = 400, 200
#: What is no worse than this is not worth showing: objects, share of the picture, times as large as the object.
NOTHING: dict[By, float] = {"lost": 0.0, "blank": 0.001, "loose": 1.01}


class WorstVariant(NamedTuple):
    """An image's worst variant. value: objects lost, share blank, or how many times larger than its object the loosest box is."""

    image: str
    variant: int
    value: float


def worst_variants(renderer: Renderer, by: By, count: int, progress: Callable[[], None] = lambda: None) -> list[WorstVariant]:
    """The `count` training images with the worst variants among some hundred draws, the worst first; one variant of each."""
    images = evenly_spaced(list(renderer.dataset.by_split().get("train", ())), IMAGES)
    each = max(1, DRAWS // max(1, len(images)))
    found = [_worst_of(renderer, image, each, by, progress) for image in images]
    bad = [worst for worst in found if worst is not None and worst.value > NOTHING[by]]
    return sorted(bad, key=lambda worst: (-worst.value, worst.image))[:count]


def _worst_of(renderer: Renderer, image: str, variants: int, by: By, progress: Callable[[], None]) -> WorstVariant | None:
    values = []
    for variant in range(1, variants + 1):
        try:
            values.append(WorstVariant(image, variant, _value(renderer, image, variant, by)))
        except RenderError:  # said on the sheet, where it is met
            continue
        progress()
    return max(values, key=lambda worst: (worst.value, -worst.variant), default=None)


def _value(renderer: Renderer, image: str, variant: int, by: By) -> float:
    plan = renderer.plan(image, variant)
    if by == "blank":
        return plan.blank_share
    outcome = renderer.variant_labels(image, variant, plan)
    if by == "loose":
        return float(outcome.objects.growth.max(initial=1.0))
    return float(sum(fate["step"] != SOURCE for fate in outcome.trace["objects"]["dropped"]))
