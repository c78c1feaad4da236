"""The catalogue itself: steps by their names. Filled by `varlen.steps`, by step files, and by `@varlen.step`."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from varlen.steps.base import Step

CATALOGUE: dict[str, type[Step]] = {}
