"""Practitioners' words find the step they mean: in the terminal, in messages, and on the screen (web/tests/choosing.test.ts reads the same table)."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from varlen.steps import CATALOGUE
from varlen.steps.problems import STEP_WORDS, nearest_step

WORDS: dict[str, str] = json.loads((Path(__file__).parent / "words.json").read_text())


@pytest.mark.parametrize(("word", "step"), WORDS.items())
def test_a_word_names_the_step(word: str, step: str) -> None:
    assert nearest_step(word, CATALOGUE) == f"; that is done by {step!r}"
    if word[0].isalpha() and not word.startswith("random"):
        assert nearest_step("Random" + word.title().replace(" ", ""), CATALOGUE) == f"; that is done by {step!r}"


def test_only_steps_have_words() -> None:
    assert set(STEP_WORDS) <= set(CATALOGUE)
    assert len(WORDS) >= 80
