"""From drawn steps to the fewest passes over the pixels.

Neighbouring geometry steps become one `Resample`, also across color steps in between, and
color steps are folded into one `Recolor`. Within one resample the frame cuts only at its
end: what a rotation turned out of the frame may come back with the next step. Three things
start a new resample: exposing area after a crop or a letterbox (their cut is meant),
exposing area with other edges than before, and exposing solid-colored area after a color
step (the fill must not be recolored).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Protocol

from varlen.draws import Peers, Stream
from varlen.effects import Blur, Color, Edges, Mosaic, Move, Recolor
from varlen.errors import RenderError
from varlen.geometry import IDENTITY, Matrix, Size, exposed_share
from varlen.pipeline import Pipeline
from varlen.steps.base import DrawContext, Drawn, Step

Window = tuple[int, int, int, int]
LARGEST_SIDE = 65_000
LARGEST_AREA = 1 << 29


@dataclass(frozen=True, slots=True)
class Member:
    """One step's part in a resample: the transform so far and the frame after it."""

    step: str
    matrix: Matrix
    size: Size


@dataclass(slots=True)
class Resample:
    """A run of geometry steps done as one, and the color steps that may follow in the same place."""

    before: Size
    size: Size
    matrix: Matrix = IDENTITY
    edges: Edges | None = None
    edge_color: Color = (0, 0, 0)
    window: Window | None = None
    pad_color: Color = (0, 0, 0)
    color: Recolor | None = None
    cut: bool = False
    members: list[Member] = field(default_factory=list)
    _exposed: float | None = None

    @property
    def target(self) -> Window:
        """The part of the new frame that is filled from the picture."""
        return self.window or (0, 0, self.size.width, self.size.height)

    @property
    def lossless(self) -> bool:
        """True when pixels are only moved about."""
        return self.matrix.lossless() and self.exposed == 0.0

    @property
    def exposed(self) -> float:
        """Share of the target that the picture does not reach."""
        if self._exposed is None:
            x0, y0, x1, y1 = self.target
            self._exposed = exposed_share(self.matrix, self.before, (float(x0), float(y0), float(x1), float(y1)))
        return self._exposed

    def extend(self, step: str, move: Move) -> None:
        """One more move at the end of the run."""
        self.matrix = self.matrix.then(move.matrix)
        self.size = move.size
        self.cut = self.cut or move.cuts
        if move.window is not None:
            x0, y0, x1, y1 = move.window
            self.window, self.pad_color = (int(x0), int(y0), int(x1), int(y1)), move.pad_color
        self.members.append(Member(step, self.matrix, move.size))
        self._exposed = None


Stage = Resample | Recolor | Blur


@dataclass(slots=True)
class Composite:
    """A canvas filled by several plans, each into its own window; the first is the picture's own."""

    step: str
    tiles: list[Plan]
    size: Size


@dataclass(slots=True)
class Plan:
    """All that is to be done for one variant: a source picture or a composite, then stages."""

    image: str
    size: Size
    composite: Composite | None = None
    stages: list[Stage] = field(default_factory=list)
    steps: list[dict[str, Any]] = field(default_factory=list)

    @property
    def passes(self) -> int:
        """How often every pixel is computed anew; copies don't count."""
        count = max(tile.passes for tile in self.composite.tiles) if self.composite else 0
        for stage in self.stages:
            if isinstance(stage, Resample):
                count += (not stage.lossless) + (stage.color is not None)
            else:
                count += 1
        return count

    @property
    def blank_share(self) -> float:
        """Share of the final picture that no source pixel reached, however it was filled; padding apart."""
        blank = 0.0
        if self.composite:
            whole = self.composite.size.width * self.composite.size.height
            for tile in self.composite.tiles:
                x0, y0, x1, y1 = tile.last_window()
                blank += tile.blank_share * (x1 - x0) * (y1 - y0) / whole
        for stage in self.stages:
            if isinstance(stage, Resample):
                blank += (1.0 - blank) * stage.exposed
        return blank

    def last_window(self) -> Window:
        """The part of the canvas that a tile fills."""
        last = self.stages[-1]
        assert isinstance(last, Resample)
        return last.target


class Images(Protocol):
    """What planning needs to know of a dataset."""

    def size_of(self, key: str) -> Size:
        """Width and height of an image, upright."""

    def peers_of(self, split: str) -> Peers:
        """The images partners are drawn from."""


DrawStep = Callable[[Step, DrawContext], tuple[bool, Drawn]]


def draw_fresh(pipeline: Pipeline, image: str, variant: int) -> DrawStep:
    """Draws from the streams of (seed, image, variant): whether a step happens, then its values."""

    def draw(step: Step, context: DrawContext) -> tuple[bool, Drawn]:
        stream = Stream(pipeline.seed, image, variant, step.id)
        fired = stream.unit() < step.probability
        return fired, step.draw(stream, context)

    return draw


def plan_variant(pipeline: Pipeline, images: Images, image: str, split: str, variant: int) -> Plan:
    """Draw and plan one output. Raises `RenderError` when a step can't be carried out."""
    steps = pipeline.steps_for(split, variant)
    return _Planner(pipeline, images, split, variant).run(image, steps, draw_fresh(pipeline, image, variant))


class _Planner:
    def __init__(self, pipeline: Pipeline, images: Images, split: str, variant: int) -> None:
        self.pipeline, self.images, self.split, self.variant = pipeline, images, split, variant

    def run(self, image: str, steps: list[Step], draw: DrawStep) -> Plan:
        plan = Plan(image, self.images.size_of(image))
        for place, step in enumerate(steps):
            fired, drawn = draw(step, DrawContext(plan.size, image, self.images.peers_of(self.split)))
            record: dict[str, Any] = {"id": step.id, "step": step.step, "fired": fired, "drawn": drawn}
            plan.steps.append(record)
            effect = step.effect(drawn, plan.size) if fired else None
            if isinstance(effect, Mosaic):
                plan = self._mosaic(plan, step, effect, steps[:place], record)
            elif isinstance(effect, Move):
                _add_move(plan, step.id, effect)
            elif isinstance(effect, Recolor):
                _add_color(plan, effect)
            elif effect is not None:
                plan.stages.append(effect)
        return plan

    def _mosaic(self, plan: Plan, step: Step, effect: Mosaic, earlier: list[Step], record: dict[str, Any]) -> Plan:
        """Plan every partner through the earlier steps with draws of its own, then onto the canvas."""
        _check_size(step.id, effect.size)
        tiles, partners = [], []
        for place, cell in enumerate(effect.cells):
            tile = plan
            if place > 0:
                stream_key = f"{plan.image}\x1f{step.id}\x1f{place}\x1f{cell.image}"
                tile = self.run(cell.image, earlier, draw_fresh(self.pipeline, stream_key, self.variant))
                partners.append({"image": cell.image, "steps": tile.steps})
            _add_move(tile, step.id, Move(cell.matrix(tile.size, effect.size), effect.size, cuts=True, window=cell.rect))
            tiles.append(tile)
        record["partners"] = partners
        return Plan(plan.image, effect.size, Composite(step.id, tiles, effect.size), steps=plan.steps)


def _check_size(step: str, size: Size) -> None:
    if min(size) < 1 or max(size) > LARGEST_SIDE or size.width * size.height > LARGEST_AREA:
        raise RenderError(f"step {step}: a picture of {size.width}×{size.height} px can't be made")


def _add_color(plan: Plan, color: Recolor) -> None:
    last = plan.stages[-1] if plan.stages else None
    if isinstance(last, Resample) and last.window is None:
        last.color = color if last.color is None else last.color.then(color)
    elif isinstance(last, Recolor):
        plan.stages[-1] = last.then(color)
    else:
        plan.stages.append(color)


def _add_move(plan: Plan, step: str, move: Move) -> None:
    _check_size(step, move.size)
    exposes = exposed_share(move.matrix, plan.size, move.window or move.size.rect) > 0.0
    last = plan.stages[-1] if plan.stages else None
    recolored = isinstance(last, Recolor) or (isinstance(last, Resample) and last.color is not None)
    solid_after_color = exposes and move.edges == "solid" and recolored
    if isinstance(last, Recolor) and not solid_after_color:
        plan.stages[-1] = last = Resample(plan.size, plan.size, color=last)
    if not isinstance(last, Resample) or solid_after_color or not _joins(last, move, exposes):
        last = Resample(plan.size, plan.size)
        plan.stages.append(last)
    if exposes:
        last.edges, last.edge_color = move.edges, move.edge_color
    last.extend(step, move)
    plan.size = move.size


def _joins(run: Resample, move: Move, exposes: bool) -> bool:
    """Whether a move may become part of the run before it."""
    if run.window is not None:
        return False
    if not exposes:
        return True
    return not run.cut and (run.edges is None or (run.edges, run.edge_color) == (move.edges, move.edge_color))
