"""What tiles show, read off the canvases they are painted on."""

from __future__ import annotations

import time
from collections.abc import Sequence
from typing import Any

from playwright.sync_api import Locator

#: Colors of the canvas at points of a figure's picture, given in its own pixels, of which it has `width` across.
COLORS_AT = """(figure, [width, points]) => {
    const canvas = figure.querySelector('canvas[role=img]') ?? figure.closest('.row-canvas').querySelector('canvas');
    const [frame, place] = [figure.getBoundingClientRect(), canvas.getBoundingClientRect()];
    if (!frame.width || !place.width) return null;
    const [zoom, dots] = [frame.width / width, canvas.width / place.width];
    const pen = canvas.getContext('2d');
    return points.map(([x, y]) => [...pen.getImageData(
        Math.floor((frame.left - place.left + x * zoom) * dots), Math.floor((frame.top - place.top + y * zoom) * dots), 1, 1).data]);
}"""


def colors_at(figure: Locator, width: int, points: Sequence[tuple[float, float]]) -> list[list[int]]:
    """Red, green, blue and opacity at points of a figure's picture, which is `width` px wide; waits until it is laid out."""
    until = time.monotonic() + 60
    found: list[list[int]] | None = None
    while (found := figure.evaluate(COLORS_AT, [width, list(points)])) is None:
        assert time.monotonic() < until, "the figure was never laid out"
        time.sleep(0.1)
    return found


def drawn(layer: str) -> str:
    """A selector for what shows something of a layer of labels: a tile, or the canvas over a picture."""
    return f"[data-{layer}]:not([data-{layer}='0'])"


def tiles_of(page: Any) -> list[str]:
    """What every tile of the sheet shows, by its address."""
    return [figure.get_attribute("data-tile") or "" for figure in page.locator("[data-testid=sheet] figure").all()]


def far(one: list[int], other: list[int]) -> int:
    """How far apart two colors are, in levels."""
    return max(abs(a - b) for a, b in zip(one, other, strict=True))
