"""What an average image of an edition costs, measured on a few that are really made."""

from __future__ import annotations

import statistics
import time
from collections.abc import Iterator

from varlen.datasets.formats import WRITERS
from varlen.datasets.summary import evenly_spaced
from varlen.editions.allotment import Allotment
from varlen.editions.export_spec import ExportSpec
from varlen.errors import VarlenError
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
