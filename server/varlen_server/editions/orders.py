"""Orders as they come in requests."""

from __future__ import annotations

from typing import Any

from varlen.editions.export_spec import ExportSpec


def spec_of(wish: dict[str, Any]) -> ExportSpec:
    """What is ordered. Raises `EditionError` for what can't be made."""
    return ExportSpec(**ExportSpec.fields_of(wish))
