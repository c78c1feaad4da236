"""What images cost, told from a few that are really made."""

from __future__ import annotations

import os
import statistics
import time

from varlen.formats import WRITERS
from varlen.order import Order
from varlen.render import Renderer
from varlen.spread import spread

#: Images made to tell.
MEASURED = 4
#: What starting the worker processes of an export takes.
START_SECONDS = 1.5


def cost_of_one(renderer: Renderer, order: Order) -> tuple[float, float]:
    """Bytes, and seconds of one processor core, of an average image of an edition; (0, 0) for one of no images."""
    writer = WRITERS[order.format](renderer.dataset)
    by_split = renderer.dataset.by_split()
    last = {split: order.variants_for(split)[-1:] for split in by_split}
    sizes, seconds = [], []
    for key, variant in spread([(key, variant) for split, keys in by_split.items() for variant in last[split] for key in keys], MEASURED):
        # This thread's own time: what else the machine does meanwhile is no part of it.
        start = time.thread_time()
        sample, _ = renderer.render(key, variant)
        sizes.append(len(writer.picture(sample.pixels, order.image, order.quality)))
        seconds.append(time.thread_time() - start)
    return (statistics.mean(sizes), statistics.median(seconds)) if sizes else (0.0, 0.0)


def seconds_for(images: int, each: float) -> float:
    """About how long an export of so many images takes on all cores of this machine."""
    return round(START_SECONDS + each * images / (os.cpu_count() or 1), 1)
