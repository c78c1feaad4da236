"""Complete digests of a varied dataset, pinned: a change of any of them is a decision, never an accident."""

from __future__ import annotations

import json

import pytest

from tests.core.golden import digests


@pytest.fixture(scope="module")
def found() -> dict:
    return digests.all_digests()


@pytest.mark.parametrize("part", ["datasets", "pipelines", "variants", "pairs", "exports", "converted", "read back"])
def test_digests_are_those_that_were_pinned(found: dict, part: str) -> None:
    """What a pinned digest stands for is seen with `python -m tests.core.golden.digests` and `git diff`."""
    assert found[part] == json.loads(digests.PINNED.read_text())[part]
