"""How much of a frame a moved picture leaves free."""

from __future__ import annotations

from varlen.kernels.label_transforms import uncovered
from varlen.model.geometry import Matrix, Point, Rect, Size, area, clip_polygon

#: Shares below this are rounding, not area.
NOTHING = 1e-9


def exposed_share(matrix: Matrix, before: Size, window: Rect) -> float:
    """Share of `window` (after) that the picture (before) does not reach, 0 … 1."""
    if matrix.upright():
        share = _upright_share(matrix, before, window)
    else:
        # Compiled code takes plain tuples in a third of the time it takes named ones.
        share = uncovered(tuple(matrix), before.width, before.height, tuple(window))
    return share if share > NOTHING else 0.0


def _upright_share(m: Matrix, before: Size, window: Rect) -> float:
    x0, y0, x1, y1 = window
    left, right = sorted((m.c, m.a * before.width + m.c))
    top, bottom = sorted((m.f, m.e * before.height + m.f))
    across = max(min(right, x1) - max(left, x0), 0.0)
    down = max(min(bottom, y1) - max(top, y0), 0.0)
    return 1.0 - across * down / ((x1 - x0) * (y1 - y0))


def exposed_by(outline: list[Point], window: Rect) -> float:
    """Share of `window` that a picture with this outline does not reach."""
    whole = (window[2] - window[0]) * (window[3] - window[1])
    share = 1.0 - area(clip_polygon(outline, window)) / whole
    return share if share > NOTHING else 0.0
