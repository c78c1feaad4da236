"""The plans of many variants of one image at once, as far as each is one straight move: drawn and put together in arrays.

The rules are the planner's (`render.planner`), the numbers too. A variant that needs more, such as a partner, a bend, a perspective, a
second resample or a look at its objects, is left to it: `Moves.left` names these.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.draws import PartnerRing, Stream, units_of
from varlen.errors import RenderError
from varlen.forecasts.step_moves import FORMULAS, StepMoves
from varlen.kernels.exposure import exposed_shares
from varlen.model.effects import Curve, Detail, Effect, Gray, Move, Recolor
from varlen.model.geometry import Matrix, Size
from varlen.pipeline.document import Pipeline
from varlen.pipeline.plan import Colors, Member, Resample, color_passes
from varlen.render.planner import LARGEST_AREA, LARGEST_SIDE, Images, with_color
from varlen.steps.base import DrawContext, PlacedObject, Step
from varlen.steps.color_jitter import ColorJitter
from varlen.steps.tone import ChannelGain, Gamma, Warmth

#: What stands last in a plan.
NOTHING, RUN, COLORS, DETAIL = range(4)
#: Kinds of steps that are carried out here; of the others a variant may have none that happens.
STRAIGHT = ("geometry", "color", "detail", "number")
#: Steps that always recolor: labels and passes do not depend on how, so nothing need be drawn.
COLORED: dict[type[Step], Recolor | Curve] = {
    ColorJitter: Recolor.gains(1.0, 1.0, 1.0), Warmth: Recolor.gains(1.0, 1.0, 1.0), ChannelGain: Recolor.gains(1.0, 1.0, 1.0),
    Gamma: Curve(bytes(range(256))),
}  # fmt: skip

Places = NDArray[np.int64]


class _NotStraight(Exception):
    """The variant is for the planner."""


@dataclass(slots=True)
class Moves:
    """Variants whose labels make one move. left: the others.

    matrices: (S, 9), with the windows (S, 4) that they fill, in px; blanks: shares of the picture that no source reaches; passes: over the pixels.
    """

    left: list[int]
    matrices: NDArray[np.float64]
    windows: NDArray[np.float64]
    blanks: list[float]
    passes: list[int]
    _state: _State
    _straight: Places

    def run(self, place: int) -> Resample:
        """One of the moves with its steps, to blame one of them."""
        return self._state.run(int(self._straight[place]))


def moves_of(pipeline: Pipeline, images: Images, image: str, variants: Sequence[int]) -> Moves | None:
    """Plan training variants of an image; None where every one is for the planner."""
    steps = pipeline.steps_for("train", 1)
    if any(step.for_objects for step in steps):
        return None
    by_group = pipeline.draw_per == "group"
    state = _State(images.size_of(image), len(variants))
    for step in steps:
        key = image if step.for_each_frame else images.draw_key(image, by_group)
        units = units_of(pipeline.seed, key, variants, step.id)
        happens = np.flatnonzero((units[:, 0] < step.probability) & state.straight)
        if not len(happens):
            continue
        formula = FORMULAS.get(type(step))
        if step.kind not in STRAIGHT:
            state.straight[happens] = False
        elif type(step) in COLORED:
            for place in happens.tolist():
                state.add(place, COLORED[type(step)])
        elif formula is not None:
            state.move(step.id, happens, formula(step, units[happens, 1:], state.sizes[happens]))
        else:
            streams = [Stream(pipeline.seed, key, variants[place], step.id) for place in happens.tolist()]
            _one_by_one(state, step, happens, streams, image)
        if not state.straight.any():
            return None
    return state.found(variants)


def _one_by_one(state: _State, step: Step, happens: Places, streams: list[Stream], image: str) -> None:
    """A step without a formula: drawn for each variant, moves of one kind then put together."""
    moves: dict[tuple[Any, ...], list[tuple[int, Move]]] = {}
    for place, stream in zip(happens.tolist(), streams, strict=True):
        stream.unit()  # whether it happens
        size = Size(*state.sizes[place].tolist())
        try:
            effect = step.effect(step.draw(stream, DrawContext(size, image, _nobody, _nothing)), size)
            if isinstance(effect, Move) and effect.matrix.affine:
                kind = effect.edges, effect.edge_color, effect.cuts, effect.window is not None
                moves.setdefault(kind, []).append((place, effect))
            else:
                state.add(place, effect)
        except (_NotStraight, RenderError):
            state.straight[place] = False
    for (edges, color, cuts, windowed), some in moves.items():
        matrices = np.array([move.matrix[:6] for _, move in some])
        windows = np.array([move.window for _, move in some], np.int64) if windowed else None
        sizes = np.array([move.size for _, move in some], np.int64)
        state.move(step.id, np.array([place for place, _ in some]), StepMoves(matrices, sizes, (edges, color) if edges else None, cuts, windows))


def _nobody() -> PartnerRing:
    raise _NotStraight


def _nothing() -> Sequence[PlacedObject]:
    raise _NotStraight


class _State:
    """How far V plans have come: what stands last in each, the one resample it has, its colors."""

    def __init__(self, size: Size, count: int) -> None:
        self.straight = np.ones(count, np.bool_)
        self.sizes = np.tile(np.array(size, np.int64), (count, 1))
        self.last = np.full(count, NOTHING)
        self.moved = np.zeros(count, np.bool_)
        self.before = self.sizes.copy()
        self.matrices = np.tile([1.0, 0.0, 0.0, 0.0, 1.0, 0.0], (count, 1))
        self.cut = np.zeros(count, np.bool_)
        self.edges = np.zeros(count, np.int64)  # 0 for none yet, else the place among `known` and one
        self.known: list[tuple[Any, ...]] = []
        self.windows = np.full((count, 4), -1, np.int64)
        self.colors: list[Colors] = [()] * count
        self.passes = np.zeros(count, np.int64)
        self.members: list[tuple[str, Places, NDArray[np.float64], NDArray[np.int64]]] = []

    def add(self, place: int, effect: Effect | None) -> None:
        """Anything but a move, in one plan. Raises `_NotStraight` for what changes labels."""
        if isinstance(effect, Recolor | Curve):
            if self.last[place] == DETAIL or (self.last[place] == RUN and self.windows[place, 0] >= 0):
                self._settle(place)
                self.last[place] = COLORS
            elif self.last[place] == NOTHING:
                self.last[place] = COLORS
            self.colors[place] = with_color(self.colors[place], effect)
        elif isinstance(effect, Detail):
            self._settle(place)
            self.passes[place] += 1
            self.last[place] = DETAIL
        elif effect is not None and not isinstance(effect, Gray):
            raise _NotStraight

    def _settle(self, place: int) -> None:
        """No more colors join those there are."""
        self.passes[place] += len(color_passes(self.colors[place]))
        self.colors[place] = ()

    def move(self, step: str, places: Places, moves: StepMoves) -> None:
        """A move in some of the plans; those that would need a second resample are given up."""
        sides = moves.sizes
        fits = (sides.min(axis=1) >= 1) & (sides.max(axis=1) <= LARGEST_SIDE) & (sides[:, 0] * sides[:, 1] <= LARGEST_AREA)
        windows = np.concatenate([np.zeros_like(sides), sides], 1) if moves.windows is None else moves.windows
        exposes = np.zeros(len(places), np.bool_)
        if moves.edges is not None:
            exposes = exposed_shares(moves.matrices, self.sizes[places], windows) > 0.0
        colored = np.fromiter((bool(self.colors[place]) for place in places.tolist()), np.bool_, len(places))
        apart = exposes & colored & (self.last[places] != DETAIL) & bool(moves.edges and moves.edges[0] == "solid")
        code = self._code(moves.edges)
        known = self.edges[places]
        joins = (self.last[places] == RUN) & ~apart & (self.windows[places, 0] < 0)
        joins &= ~exposes | (~self.cut[places] & ((known == 0) | (known == code)))
        kept = fits & (joins | ~self.moved[places])
        self.straight[places[~kept]] = False
        for place in places[kept & ~joins & (apart | (self.last[places] == DETAIL))].tolist():
            self._settle(place)
        new = places[kept & ~joins]
        self.before[new] = self.sizes[new]
        self.moved[new] = True
        self._carry_out(step, places[kept], moves, kept)
        self.edges[places[kept & exposes]] = code

    def _carry_out(self, step: str, places: Places, moves: StepMoves, kept: NDArray[np.bool_]) -> None:
        self.matrices[places] = _then(self.matrices[places], moves.matrices[kept])
        self.sizes[places] = moves.sizes[kept]
        self.last[places] = RUN
        if moves.cuts:
            self.cut[places] = True
        if moves.windows is not None:
            windows, whole = moves.windows[kept], np.concatenate([np.zeros_like(moves.sizes), moves.sizes], 1)[kept]
            inside = (windows != whole).any(axis=1)
            self.windows[places[inside]] = windows[inside]
        at = np.full(len(self.last), -1)
        at[places] = np.arange(len(places))
        self.members.append((step, at, self.matrices[places], self.sizes[places]))

    def _code(self, edges: tuple[Any, ...] | None) -> int:
        if edges is None:
            return 0
        if edges not in self.known:
            self.known.append(edges)
        return self.known.index(edges) + 1

    def found(self, variants: Sequence[int]) -> Moves:
        """What came of them; where nothing moves, labels are as they were to the last keypoint on the border, which the planner's way knows."""
        self.straight &= self.moved
        straight = np.flatnonzero(self.straight)
        for place in straight.tolist():
            self._settle(place)
        windows = self._targets(straight)
        blanks = exposed_shares(self.matrices[straight], self.before[straight], windows)
        self.passes[straight] += ~(_lossless(self.matrices[straight]) & (blanks == 0.0))
        matrices = np.tile(np.array(Matrix()), (len(straight), 1))
        matrices[:, :6] = self.matrices[straight]
        left = [variants[place] for place in np.flatnonzero(~self.straight).tolist()]
        return Moves(left, matrices, windows.astype(np.float64), blanks.tolist(), self.passes[straight].tolist(), self, straight)

    def _targets(self, places: Places) -> NDArray[np.int64]:
        whole = np.concatenate([np.zeros((len(places), 2), np.int64), self.sizes[places]], 1)
        return np.where(self.windows[places, :1] >= 0, self.windows[places], whole)

    def run(self, place: int) -> Resample:
        """One plan's resample."""
        x0, y0, x1, y1 = self.windows[place].tolist()
        found = Resample(Size(*self.before[place].tolist()), Size(*self.sizes[place].tolist()), matrix=Matrix(*self.matrices[place].tolist()),
                         window=(x0, y0, x1, y1) if x0 >= 0 else None)  # fmt: skip
        for step, where, matrices, sizes in self.members:
            at = int(where[place])
            if at >= 0:
                found.members.append(Member(step, (), Matrix(*matrices[at].tolist()), Size(*sizes[at].tolist())))
        return found


def _then(first: NDArray[np.float64], after: NDArray[np.float64]) -> NDArray[np.float64]:
    """As `Matrix.then`, for affine matrices (V, 6)."""
    p, q, r, u, v, w = first.T
    a, b, c, d, e, f = after.T
    return np.stack([a * p + b * u, a * q + b * v, a * r + b * w + c, d * p + e * u, d * q + e * v, d * r + e * w + f], 1)


def _lossless(matrices: NDArray[np.float64]) -> NDArray[np.bool_]:
    """As `Matrix.lossless`."""
    a, b, c, d, e, f = matrices.T
    rows = [(np.minimum(abs(one), abs(other)) == 0.0) & (np.maximum(abs(one), abs(other)) == 1.0) for one, other in ((a, b), (d, e))]
    return np.asarray(rows[0] & rows[1] & (abs(a * e - b * d) == 1.0) & (c == np.rint(c)) & (f == np.rint(f)))
