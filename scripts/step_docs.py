"""Write docs/steps.md and docs/pipeline.schema.json from the catalogue. `make step-docs`; a test keeps them true."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from varlen.pipeline import document_schema
from varlen.steps import CATALOGUE, describe

DOCS = Path(__file__).resolve().parent.parent / "docs"


def reference() -> str:
    """The reference page of all steps."""
    lines = [
        "# Steps",
        "",
        "Written from the code by `make step-docs`. A range is `[low, high]`; a single number stands for a fixed value. A range of",
        "factors (×) is drawn evenly in its logarithm, every other range evenly. Every step also has an `id` (its draws hang on it)",
        "and `enabled`.",
        "",
    ]
    for cls in CATALOGUE.values():
        about = describe(cls)
        lines += [f"## `{about['step']}`", "", f"{about['meaning']} *({about['kind']}, found under “{about['purpose']}”)*", ""]
        lines += ["| parameter | default | allowed | meaning |", "|---|---|---|---|"]
        lines += [_row(parameter) for parameter in about["parameters"]]
        lines.append("")
    return "\n".join(lines)


def _row(parameter: dict[str, Any]) -> str:
    allowed = " · ".join(f"`{option}`" for option in parameter.get("options", ()))
    if not allowed and "low" in parameter:
        allowed = f"{parameter['low']:g} … {parameter['high']:g} {parameter['unit']}".strip()
    when = "".join(f" (with {name}: {' or '.join(values)})" for name, values in parameter.get("when", {}).items())
    return f"| `{parameter['name']}` | `{json.dumps(parameter['default'])}` | {allowed} | {parameter['meaning']}{when} |"


def schema() -> str:
    """The JSON Schema of pipeline files."""
    return json.dumps(document_schema(), indent=1, ensure_ascii=False) + "\n"


if __name__ == "__main__":
    (DOCS / "steps.md").write_text(reference())
    (DOCS / "pipeline.schema.json").write_text(schema())
