"""How many processes an export is worth."""

from __future__ import annotations

import os
from itertools import islice

from varlen.datasets.dataset import Dataset

#: Pixels of source images, counted for each image that is made of them, for which others begin to pay: loading everything takes a process
#: about as long as making half of these.
WORTH = 140_000_000
#: Images from whose sizes that of all is taken.
LOOKED_AT = 200


def fitting_workers(dataset: Dataset, images: int) -> int:
    """As many processes as there are cores; one where so few images are made that others would begin too late."""
    sizes = [entry.size for entry in islice(dataset.entries.values(), LOOKED_AT)]
    pixels = sum(size.width * size.height for size in sizes) / max(len(sizes), 1)
    return (os.cpu_count() or 1) if images * pixels >= WORTH else 1
