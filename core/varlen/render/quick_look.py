"""A plan at a small size: what a variant looks like, made from a fraction of its pixels.

Every frame of the plan is scaled, so that geometry, colors and lengths stay as they are to the
eye, and only the pixels of a small picture are computed. Some steps depend on full-size pixels
(noise, compression); plans with them have no quick look. Digests, traces and exports never see one.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from varlen.model.effects import Bends, Cover, PixelOperation
from varlen.model.geometry import Matrix, Size, scaling
from varlen.pipeline.plan import Mixed, Painted, Pasted, Patch, Patched, Plan, Resample, Stage, StepTransform, Tiled, Window
from varlen.render.source_pictures import stretch

Factor = tuple[float, float]
WHOLE: Factor = (1.0, 1.0)


def quick_look(plan: Plan, width: int) -> Plan | None:
    """The plan that makes the same picture `width` px wide; None where it is no wider, or where its look depends on full-size pixels."""
    if plan.size.width <= width:
        return None
    height = max(1, round(plan.size.height * width / plan.size.width))
    return _scaled_plan(plan, (width / plan.size.width, height / plan.size.height), Size(width, height))


def _scaled_plan(plan: Plan, factor: Factor, size: Size) -> Plan | None:
    """A plan whose last frame is `factor` times as large, which is `size`."""
    factors = _factors(plan.stages, factor)
    base, before = plan.base, factors[0]
    if base is not None:
        base = _scaled_base(base, before)
        if base is None:
            return None
    stages: Sequence[Stage] = plan.stages
    if base is None:
        before = WHOLE
        if not stages or not isinstance(stages[0], Resample):
            # The source itself is what is made small.
            whole = _source_size(plan)
            stages, factors = [Resample(whole, whole), *stages], [WHOLE, *factors]
        factors[0] = WHOLE
    small = [_scaled_stage(stage, before, after) for stage, before, after in zip(stages, factors, factors[1:], strict=False)]
    if any(stage is None for stage in small):
        return None
    return replace(plan, size=size, base=base, stages=[stage for stage in small if stage is not None])


def _source_size(plan: Plan) -> Size:
    """The size of the source of a plan that begins without a move."""
    return next((stage.before for stage in plan.stages if isinstance(stage, Resample)), plan.size)


def _factors(stages: Sequence[Stage], last: Factor) -> list[Factor]:
    """How much smaller the frame before each stage is made, and at the end the last one.

    A picture that is enlarged later is kept as much larger before, up to its own size.
    """
    factors = [last]
    for stage in reversed(stages):
        grows = max(1e-6, *stretch(stage)) if isinstance(stage, Resample) and stage.members else 1.0
        across, down = factors[0]
        grows = min(grows, 1.0 / max(across, down)) if grows > 1.0 else 1.0
        factors.insert(0, (across * grows, down * grows))
    return factors


def _scaled_base(base: Tiled | Mixed | Pasted, factor: Factor) -> Tiled | Mixed | None:
    match base:
        case Tiled(tiles=tiles, size=size):
            canvas = _scaled_size(size, factor)
            small = [_scaled_plan(tile, factor, canvas) for tile in tiles]
            found = tuple(tile for tile in small if tile is not None)
            return replace(base, tiles=found, size=canvas) if len(found) == len(tiles) else None
        case Mixed(own=own, partner=partner):
            size = _scaled_size(own.size, factor)
            one, other = _scaled_plan(own, factor, size), _scaled_plan(partner, factor, size)
            return None if one is None or other is None else replace(base, own=one, partner=other)
        case Pasted():
            # Which pixels a pasted object covers is told by its outline at full size.
            return None


def _scaled_stage(stage: Stage, before: Factor, after: Factor) -> Stage | None:
    match stage:
        case Resample():
            return _scaled_resample(stage, before, after)
        case PixelOperation(step=step, values=values):
            small = step.at_scale(values, max(after))
            return None if small is None else PixelOperation(step, small)
        case Painted(step=step, cover=cover):
            small_cover = _scaled_cover(cover, after)
            return None if small_cover is None else Painted(step, small_cover)
        case Patched(patches=patches):
            return _scaled_patches(stage, patches, after)
        case _:
            return stage


def _scaled_resample(run: Resample, before: Factor, after: Factor) -> Resample:
    larger, smaller = scaling(1.0 / before[0], 1.0 / before[1]), scaling(*after)

    def small(bends: Bends, matrix: Matrix) -> tuple[Bends, Matrix]:
        if not bends:
            return (), larger.then(matrix).then(smaller)
        (first, field), *rest = bends
        return ((larger.then(first), field), *rest), matrix.then(smaller)

    bends, matrix = small(run.bends, run.matrix)
    size = _scaled_size(run.size, after)
    members = [StepTransform(member.step, *small(member.bends, member.matrix), size) for member in run.members[-1:]]
    window = None if run.window is None else _scaled_window(run.window, after)
    return replace(run, before=_scaled_size(run.before, before), size=size, bends=bends, matrix=matrix, window=window,
                   members=members or [StepTransform("", (), matrix, size)], _exposed=run.exposed)  # fmt: skip


def _scaled_cover(cover: Cover, factor: Factor) -> Cover | None:
    """Painted areas; noise has the grain of the full size and has no quick look."""
    return None if cover.fill == "noise" else replace(cover, areas=tuple(_scaled_window(area, factor) for area in cover.areas))


def _scaled_patches(patched: Patched, patches: Sequence[Patch], factor: Factor) -> Patched | None:
    """What happens within objects' boxes."""
    small: list[Patch] = []
    for patch in patches:
        rect = _scaled_window(patch.rect, factor)
        stages = [_scaled_stage(stage, factor, factor) for stage in patch.plan.stages]
        if any(stage is None or isinstance(stage, Resample) for stage in stages):
            return None
        plan = replace(patch.plan, size=Size(rect[2] - rect[0], rect[3] - rect[1]), stages=[stage for stage in stages if stage is not None])
        small.append(replace(patch, rect=rect, plan=plan))
    return replace(patched, patches=tuple(small))


def _scaled_size(size: Size, factor: Factor) -> Size:
    return Size(max(1, round(size.width * factor[0])), max(1, round(size.height * factor[1])))


def _scaled_window(window: Window, factor: Factor) -> Window:
    """A window of whole pixels at least one pixel wide and high."""
    x0, y0 = round(window[0] * factor[0]), round(window[1] * factor[1])
    return x0, y0, max(x0 + 1, round(window[2] * factor[0])), max(y0 + 1, round(window[3] * factor[1]))
