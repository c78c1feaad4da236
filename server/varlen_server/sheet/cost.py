"""What an order costs, measured once for all who ask."""

from __future__ import annotations

import os

import orjson
from varlen.editions.allotment import Allotment
from varlen.editions.export_spec import TRAINING, ExportSpec
from varlen.forecasts.cost import cost_of_one, seconds_for
from varlen.render.renderer import Renderer

from varlen_server.response_cache import cached_json

#: Images made to tell.
MEASURED = 4


def cost_of(renderer: Renderer, dataset_digest: str, spec: ExportSpec, allotment: Allotment) -> dict[str, float]:
    """`bytes` and `seconds`, on all cores of this machine, of an edition.

    Of one image it is measured once for a dataset, a pipeline and a form of pictures, so that all who ask hear the same.
    """
    varied = sorted((split, (spec.allots and split == TRAINING) or any(spec.variants_for(split))) for split in allotment.keys)
    asked = [dataset_digest, renderer.pipeline.digest, spec.format, spec.image, spec.quality, varied]
    size, seconds = orjson.loads(cached_json("costs", asked, lambda: cost_of_one(renderer, spec, allotment, MEASURED)))
    total = sum(allotment.counts().values())
    return {"bytes": round(size * total), "seconds": seconds_for(total, seconds, os.cpu_count() or 1)}
