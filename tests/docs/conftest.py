"""The demo as `varlen demo` writes it, rendered once."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import kept_survey, rendered


@pytest.fixture(scope="session")
def full_survey() -> Path:
    """The night moth survey of 60 images; not to be written to."""
    return rendered("full-survey", lambda part: kept_survey(part / "moths", 60)) / "moths"
