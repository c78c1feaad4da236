"""What images cost, measured on a few that are really made."""

from __future__ import annotations

import os
import statistics
import time
from collections.abc import Mapping, Sequence

import orjson
from varlen.datasets.formats import WRITERS
from varlen.datasets.summary import evenly_spaced
from varlen.editions.export_spec import TRAINING, ExportSpec
from varlen.render.renderer import Renderer

from varlen_server.response_cache import cached_json

#: Images made to tell.
MEASURED = 4
#: What starting the worker processes of an export takes.
START_SECONDS = 1.5


def cost_of_one(renderer: Renderer, dataset_digest: str, order: ExportSpec) -> tuple[float, float]:
    """Bytes, and seconds of one processor core, of an average image of an edition; (0, 0) for one of no images.

    Measured once for a dataset, a pipeline and a form of pictures, so that all who ask hear the same.
    """
    by_split = renderer.dataset.by_split()
    # The last variant of each image stands for all that are made of it.
    last = {split: [1] if order.allots and split == TRAINING else order.variants_for(split)[-1:] for split in by_split}
    varied = sorted((split, bool(variant)) for split, variants in last.items() for variant in variants)
    asked = [dataset_digest, renderer.pipeline.digest, order.format, order.image, order.quality, varied]
    size, seconds = orjson.loads(cached_json("costs", asked, lambda: _measured(renderer, order, last)))
    return size, seconds


def _measured(renderer: Renderer, order: ExportSpec, last: Mapping[str, Sequence[int]]) -> tuple[float, float]:
    writer = WRITERS[order.format](renderer.dataset)
    every = [(key, variant) for split, keys in renderer.dataset.by_split().items() for variant in last[split] for key in keys]
    sizes, seconds = [], []
    for key, variant in evenly_spaced(every, MEASURED):
        # This thread's own time: what else the machine does meanwhile is no part of it.
        start = time.thread_time()
        sample, _ = renderer.render(key, variant)
        sizes.append(len(writer.picture(sample.pixels, order.image, order.quality)))
        seconds.append(time.thread_time() - start)
    return (statistics.mean(sizes), statistics.median(seconds)) if sizes else (0.0, 0.0)


def seconds_for(images: int, each: float) -> float:
    """About how long an export of so many images takes on all cores of this machine."""
    return round(START_SECONDS + each * images / (os.cpu_count() or 1), 1)
