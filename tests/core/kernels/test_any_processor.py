"""The same bytes on every processor."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest
from varlen.steps import CATALOGUE


@pytest.mark.slow
def test_bytes_don_t_depend_on_the_processor(tmp_path: Path) -> None:
    """Every step makes the same picture with code compiled for a processor without vector extensions beyond the basic ones."""
    digests = []
    # For this processor everything is compiled already; the other code is not optimised either, which takes less long and must change nothing.
    for target in ({}, {"NUMBA_CPU_NAME": "generic", "NUMBA_CPU_FEATURES": "", "NUMBA_OPT": "0", "NUMBA_CACHE_DIR": str(tmp_path)}):
        done = subprocess.run([sys.executable, "-c", _PICTURES], env={**os.environ, **target}, capture_output=True, text=True, check=True)
        digests.append(done.stdout)
    assert digests[0] == digests[1]
    assert len(digests[0].splitlines()) == len(CATALOGUE)


_PICTURES = """
import numpy as np
from varlen.datasets.dataset import Dataset
from varlen.datasets.entry import Entry
from varlen.model.geometry import Size
from varlen.pipeline.document import from_json
from varlen.render.renderer import Renderer
from varlen.render.source_pictures import PictureCache
from varlen.model.objects import Part, make_objects
from varlen.steps import CATALOGUE
class Pictures(Dataset):
    def pixels(self, key):
        return np.random.default_rng(len(key)).integers(0, 256, (90, 120, 3)).astype(np.uint8)
ring = np.array([[30.0, 20.0], [70.0, 25.0], [60.0, 60.0], [35.0, 50.0]])
objects = make_objects(["1"], "a", [0], [[30, 20, 70, 60]], [(Part(ring),)], [None], [[]], [False], [{}])
images = [Entry(key, "train", Size(120, 90), objects) for key in ("a", "bb", "ccc")]
dataset = Pictures("noise", ["spot"], images, None, digests={"a": "01", "bb": "02", "ccc": "03"})
more = {"rotate": {"edges": "mirror"}, "elastic": {"strength_fraction": [0.04, 0.04]},
        "perspective": {"corner_fraction": [0.1, 0.1], "edges": "wrap"},
        "cutout": {"fill": "noise"},
        "resize": {"width_px": 47, "height_px": 61}, "mosaic": {"grid": "3x3"}, "noise": {"sigma_levels": [9, 9]}, "blur": {"sigma_px": [1.3, 1.3]}}
for name in CATALOGUE:
    step = {"step": name, "probability": 1, "scope": "train", **more.get(name, {})}
    sample, trace = Renderer(dataset, from_json({"varlen_pipeline": 1, "seed": 4, "steps": [step]})).render("a", 1)
    print(name, trace["pixel_digest"], sample.objects.boxes.tolist())
"""
