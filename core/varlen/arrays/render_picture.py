"""One variant of one picture given as an array."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.arrays.one_picture import NO_LABELS, array_renderer, one_picture
from varlen.arrays.rendered import Rendered
from varlen.datasets.array_labels import Labels
from varlen.errors import ArrayError
from varlen.pipeline.document import Pipeline
from varlen.pipeline.draw_sources import Draws
from varlen.pipeline.reading import MOST_SEED
from varlen.render.planner import plan_variant


def render_picture(pipeline: Pipeline, image: NDArray[np.uint8], labels: Labels | None, key: str, variant: int, split: str,
                   partners: Sequence[Any] = (), group: str = "", draws: Draws | None = None) -> Rendered:  # fmt: skip
    """See `varlen.arrays.pipeline.Pipeline.render`. draws: instead of those of the seed."""
    if not isinstance(variant, (int, np.integer)) or not 0 <= variant <= MOST_SEED:
        raise ArrayError(f"variant: expected a whole number from 0, not {variant!r}")
    pictures = one_picture(pipeline, image, labels, key, split, partners, group)
    renderer = array_renderer(pipeline, pictures)
    plan = plan_variant(pipeline, pictures, key, split, int(variant), draws)
    return Rendered(renderer, plan, renderer.labels(plan), labels or NO_LABELS, int(variant), image)
