"""Which plans are for their labels nothing but straight moves."""

from __future__ import annotations

from varlen.forecasts.tally import Motion
from varlen.labels.transform import does_nothing
from varlen.model.effects import Detail
from varlen.model.geometry import Size
from varlen.pipeline.plan import Plan, Resample, Tiled


def only_resample(plan: Plan) -> Resample | None:
    """The one resample of a plan that does nothing else to labels; None for other plans."""
    runs = _resamples(plan)
    return runs[0] if plan.base is None and runs is not None and len(runs) == 1 and not runs[0].bends else None


def _resamples(plan: Plan) -> list[Resample] | None:
    """The resamples among a plan's stages; None where others change labels, too."""
    if any(not isinstance(stage, (Resample, Detail, tuple)) for stage in plan.stages):
        return None
    return [stage for stage in plan.stages if isinstance(stage, Resample)]


def straight_tiles(plan: Plan) -> list[tuple[str, Motion]] | None:
    """The image and the move of each tile of a mosaic that is then at most made larger or smaller; None for other plans."""
    if not isinstance(plan.base, Tiled):
        return None
    later = _resamples(plan)
    if later is None:
        return None
    later = [run for run in later if not does_nothing(run)]
    runs = [only_resample(tile) for tile in plan.base.tiles]
    if len(later) > 1 or any(not _grows(run, plan.base.size) for run in later):
        return None
    after = later[0] if later else None
    found = []
    for place, (tile, run) in enumerate(zip(plan.base.tiles, runs, strict=True)):
        if run is None or not run.matrix.affine:
            return None
        found.append((tile.image, Motion(run, plan.base.step if place else "", after)))
    return found


def _grows(run: Resample, size: Size) -> bool:
    """Whether a run makes a picture of this size larger or smaller, upright, and shows all of it."""
    matrix, (x0, y0, x1, y1) = run.matrix, run.target_rect
    if run.bends or not matrix.upright() or matrix.a <= 0.0 or matrix.e <= 0.0:
        return False
    return x0 <= matrix.c and matrix.a * size.width + matrix.c <= x1 and y0 <= matrix.f and matrix.e * size.height + matrix.f <= y1
