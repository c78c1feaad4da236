"""A probe's result as a table for a notebook."""

from __future__ import annotations

import html
from typing import Any


def html_table(found: dict[str, Any]) -> str:
    """A row a pipeline: its mean, spread, difference with interval, verdict; then how it holds under each condition."""
    rows = "".join(_row(row) for row in found["results"])
    conditions = list(next(iter(found["robustness"].values())))
    head = "".join(f"<th>{html.escape(name)}</th>" for name in conditions)
    grid = "".join(
        f"<tr><td>{html.escape(name)}</td>{''.join(f'<td>{values[condition]:.3f}</td>' for condition in conditions)}</tr>"
        for name, values in found["robustness"].items()
    )
    return (
        f"<p>{html.escape(found['metric'])} on {html.escape(found['split'])}, {found['seeds']} seeds, {found['steps']} steps</p>"
        f"<table><tr><th>pipeline</th><th>mean</th><th>spread</th><th>difference</th><th>95 % interval</th><th></th></tr>{rows}</table>"
        f"<table><tr><th></th>{head}</tr>{grid}</table><p>{html.escape(found['proxy'])}</p>"
    )


def _row(row: dict[str, Any]) -> str:
    cells = [html.escape(row["pipeline"]), f"{row['mean']:.3f}", f"{row['spread']:.3f}"]
    if "verdict" in row:
        low, high = row["interval"]
        cells += [f"{row['difference']:+.3f}", f"{low:+.3f} … {high:+.3f}", html.escape(row["verdict"])]
    return f"<tr>{''.join(f'<td>{cell}</td>' for cell in cells)}</tr>"
