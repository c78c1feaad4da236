"""Complete digests of a varied dataset, pinned: a change of any of them is a decision, never an accident.

What a pinned digest stands for is seen with `python -m tests.core.golden.digests` and `git diff`.
"""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.core.golden import digests
from tests.core.golden.dataset import golden, pair
from tests.core.golden.pipelines import PIPELINES

PINNED = json.loads(digests.PINNED.read_text())


def test_what_every_step_takes() -> None:
    """Pipelines kept for years, own screens and scripts rely on names, defaults and limits."""
    assert digests.catalogue() == PINNED["catalogue"]


def test_datasets_and_pipelines() -> None:
    assert digests.datasets() == PINNED["datasets"]
    assert digests.pipelines() == PINNED["pipelines"]


@pytest.mark.parametrize("name", PIPELINES)
def test_every_variant_of_every_picture(name: str) -> None:
    assert digests.variants(golden(), PIPELINES[name]) == PINNED["variants"][name]


@pytest.mark.parametrize("name", digests.WITH_PARTNERS)
def test_the_same_partner_several_times(name: str) -> None:
    assert digests.variants(pair(), PIPELINES[name]) == PINNED["pairs"][name]


@pytest.mark.parametrize("form", digests.FORMATS)
def test_editions_in_every_format(form: str, tmp_path: Path) -> None:
    for image in digests.CODED:
        assert digests.exported(form, image, tmp_path) == PINNED["exports"][f"{form} {image}"]


@pytest.mark.parametrize("form", digests.FORMATS)
def test_there_and_back_in_every_format(form: str, tmp_path: Path) -> None:
    assert digests.converted(form, tmp_path) == [PINNED["converted"][form], PINNED["read back"].get(form)]
