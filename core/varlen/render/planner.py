"""From drawn steps to the fewest passes over the pixels.

Neighbouring geometry steps become one `Resample`, also across color steps in between, and
color steps are folded together. Within one resample the frame cuts only at its end: what a
rotation turned out of the frame may come back with the next step. Four things start a new
resample: exposing area after a crop or a letterbox (their cut is intended), exposing area with
other edges than before, exposing solid-colored area after a color step (the fill must not
be recolored), and a perspective that would bring part of the source to its horizon.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from varlen.draws import PartnerRing
from varlen.errors import RenderError
from varlen.kernels.label_transforms import exposed_share
from varlen.labels.outcomes import LabelState
from varlen.labels.propagate import labels_of, pasted_labels
from varlen.model.effects import Bend, Cover, Curve, Effect, Gray, Mix, Mosaic, Move, Paste, PixelOperation, Recolor
from varlen.model.geometry import IDENTITY, Point, Size, scaling, translation
from varlen.model.objects import Objects
from varlen.pipeline.document import Pipeline, applicable
from varlen.pipeline.draw_sources import Draws, FreshDraws, Part
from varlen.pipeline.plan import Colors, Mixed, Painted, Pasted, PastedObject, Patch, Patched, Plan, Resample, Tiled, Window
from varlen.pipeline.trace import StepRecord
from varlen.steps.base import DrawContext, PlacedObject, Step
from varlen.steps.junction import Junction

LARGEST_SIDE = 65_000
LARGEST_AREA = 1 << 29
#: A perspective must keep the source this far from its horizon (see `Matrix.depth`).
SHALLOWEST = 0.1


class Images(Protocol):
    """What planning needs to know of a dataset."""

    @property
    def swap(self) -> NDArray[np.int64]:
        """Mirror partners of the skeleton's keypoints."""

    @property
    def class_swap(self) -> NDArray[np.int64]:
        """For each class the one that a mirror turns it into; empty where there are no such pairs."""

    def size_of(self, key: str) -> Size:
        """Width and height of an image, upright."""

    def objects_of(self, key: str) -> Objects:
        """The labels of an image."""

    def peers_of(self, split: str, by_group: bool) -> PartnerRing:
        """The images partners are drawn from."""

    def draw_key(self, key: str, by_group: bool) -> str:
        """What an image's draws depend on: its key, or the name of its group."""


def plan_variant(pipeline: Pipeline, images: Images, image: str, split: str, variant: int, draws: Draws | None = None) -> Plan:
    """Plan one output, with fresh draws or with those given. Raises `RenderError` when a step can't be carried out."""
    by_group = pipeline.draw_per == "group"
    draws = draws or FreshDraws(pipeline.seed, images.draw_key(image, by_group), variant, image)
    return _Planner(pipeline, images, split, variant).run(image, pipeline.steps_for(split, variant), draws)


class _Planner:
    def __init__(self, pipeline: Pipeline, images: Images, split: str, variant: int) -> None:
        self.pipeline, self.images = pipeline, images
        self.by_group = pipeline.draw_per == "group"
        self.split = split
        self.augmented = split == "train" and variant > 0

    def peers(self) -> PartnerRing:
        """The images partners are drawn from; only asked for where there is a step that takes some."""
        return self.images.peers_of(self.split, self.by_group)

    def run(self, image: str, steps: Sequence[Step], draws: Draws) -> Plan:
        """An image through some steps."""
        return self._steps(Plan(image, self.images.size_of(image)), steps, [], draws)

    def _steps(self, plan: Plan, steps: Sequence[Step], earlier: list[Step], draws: Draws) -> Plan:
        """`earlier`: the steps on the way here, which partners take with draws of their own."""
        for place, step in enumerate(steps):
            if step.for_objects:
                self._within_objects(plan, step, draws)
                continue
            context = DrawContext(plan.size, plan.image, self.peers, lambda plan=plan: self.seen(plan))  # type: ignore[misc]
            fired, drawn = draws.step(step, context)
            record: StepRecord = {"id": step.id, "step": step.step, "fired": fired, "drawn": drawn}
            plan.steps.append(record)
            if not fired:
                continue
            if isinstance(step, Junction):
                branch = applicable(step.branches[drawn["branch"]].steps, self.augmented)
                plan = self._steps(plan, branch, [*earlier, *steps[:place]], draws)
                continue
            effect = step.effect(drawn, plan.size)
            if isinstance(effect, (Mosaic, Mix, Paste)):
                plan = self._composite(plan, step, effect, [*earlier, *steps[:place]], draws, record)
            elif effect is not None:
                _add(plan, step.id, effect)
        return plan

    def _composite(self, plan: Plan, step: Step, effect: Mosaic | Mix | Paste, earlier: list[Step], draws: Draws, record: StepRecord) -> Plan:
        match effect:
            case Mosaic():
                return self._mosaic(plan, step, effect, earlier, draws, record)
            case Mix():
                return self._mix(plan, step, effect, earlier, draws, record)
            case Paste():
                return self._paste(plan, step, effect, earlier, draws, record)

    def labels(self, plan: Plan) -> LabelState:
        """The labels as they are after what is planned so far."""
        return labels_of(plan, self.images, self.pipeline.labels)

    def seen(self, plan: Plan) -> list[PlacedObject]:
        """The objects as they are after what is planned so far."""
        objects = self.labels(plan).objects
        boxes = [(x0, y0, x1, y1) for x0, y0, x1, y1 in objects.boxes.tolist()]
        return [PlacedObject(*each) for each in zip(objects.images, objects.ids, boxes, strict=True)]

    def _within_objects(self, plan: Plan, step: Step, draws: Draws) -> None:
        """Draw and plan a step separately for each object's box."""
        patches, drawn_for = [], []
        names: dict[tuple[str, str], int] = {}
        for place, seen in enumerate(self.seen(plan)):
            x0, y0, x1, y1 = math.floor(seen.box[0]), math.floor(seen.box[1]), math.ceil(seen.box[2]), math.ceil(seen.box[3])
            # The same partner may be in a mosaic twice.
            copy = names[seen.image, seen.id] = names.get((seen.image, seen.id), -1) + 1
            if x0 >= x1 or y0 >= y1:
                continue
            inside = Plan(plan.image, Size(x1 - x0, y1 - y0))
            part: Part = {"image": seen.image, "object": seen.id, "copy": copy}
            fired, drawn = draws.step(step, DrawContext(inside.size, plan.image, self.peers), part)
            drawn_for.append({**part, "fired": fired, "drawn": drawn})
            effect = step.effect(drawn, inside.size) if fired else None
            if effect is not None:
                _add(inside, step.id, effect)
                patches.append(Patch(place, (x0, y0, x1, y1), inside))
        plan.steps.append({"id": step.id, "step": step.step, "fired": bool(patches), "drawn": {"objects": drawn_for}})
        if patches:
            plan.stages.append(Patched(step.id, tuple(patches)))

    def _partner(self, image: str, place: int, step: Step, earlier: list[Step], draws: Draws, record: StepRecord) -> Plan:
        """A partner through the earlier steps with draws of its own."""
        partners = record.setdefault("partners", [])
        plan = self.run(image, earlier, draws.partner(step.id, place, self.images.draw_key(image, self.by_group)))
        partners.append({"image": image, "steps": plan.steps})
        return plan

    def _mosaic(self, plan: Plan, step: Step, effect: Mosaic, earlier: list[Step], draws: Draws, record: StepRecord) -> Plan:
        _check_size(step.id, effect.size)
        tiles = []
        for place, cell in enumerate(effect.cells):
            tile = plan if place == 0 else self._partner(cell.image, place, step, earlier, draws, record)
            _add_move(tile, step.id, Move(cell.matrix(tile.size, effect.size), effect.size, cuts=True, window=cell.rect))
            tiles.append(tile)
        return Plan(plan.image, effect.size, Tiled(step.id, tuple(tiles), effect.size), steps=plan.steps, gray=plan.gray)

    def _mix(self, plan: Plan, step: Step, effect: Mix, earlier: list[Step], draws: Draws, record: StepRecord) -> Plan:
        partner = self._partner(effect.image, 1, step, earlier, draws, record)
        across, down = plan.size.width / partner.size.width, plan.size.height / partner.size.height
        factor = max(across, down)
        left, top = (plan.size.width - factor * partner.size.width) / 2, (plan.size.height - factor * partner.size.height) / 2
        _add_move(partner, step.id, Move(scaling(factor, factor, left, top), plan.size, cuts=True))
        return Plan(plan.image, plan.size, Mixed(step.id, plan, partner, effect.weight), steps=plan.steps, gray=plan.gray)

    def _paste(self, plan: Plan, step: Step, effect: Paste, earlier: list[Step], draws: Draws, record: StepRecord) -> Plan:
        pasted = []
        record["pasted"] = []
        for place, guest in enumerate(effect.guests, 1):
            partner = self._partner(guest.image, place, step, earlier, draws, record)
            objects = self.labels(partner).objects
            shaped = objects.shaped()
            if not shaped:
                continue
            chosen = shaped[min(int(guest.choice * len(shaped)), len(shaped) - 1)]
            x0, y0, x1, y1 = objects.boxes[chosen].tolist()
            # Its centre goes to the drawn place; only the part of the canvas around it is worked on.
            away = translation(-(x0 + x1) / 2, -(y0 + y1) / 2).then(scaling(guest.scale, guest.scale))
            matrix = away.then(translation(guest.x * plan.size.width, guest.y * plan.size.height))
            window = _whole_window(matrix.quad((x0, y0, x1, y1)), plan.size)
            if window is None:
                continue
            _add_move(partner, step.id, Move(matrix, plan.size, cuts=True, window=window))
            one = PastedObject(partner, objects.images[chosen], objects.ids[chosen])
            if pasted_labels(one, self.images, self.pipeline.labels) is None:
                continue
            pasted.append(one)
            record["pasted"].append({"image": objects.images[chosen], "id": objects.ids[chosen]})
        if not pasted:
            return plan
        return Plan(plan.image, plan.size, Pasted(step.id, plan, tuple(pasted)), steps=plan.steps, gray=plan.gray)


def _whole_window(quad: list[Point], size: Size) -> Window | None:
    """The whole pixels around four corners, within the frame."""
    x0, y0 = max(math.floor(min(x for x, _ in quad)) - 1, 0), max(math.floor(min(y for _, y in quad)) - 1, 0)
    x1, y1 = min(math.ceil(max(x for x, _ in quad)) + 1, size.width), min(math.ceil(max(y for _, y in quad)) + 1, size.height)
    return (x0, y0, x1, y1) if x0 < x1 and y0 < y1 else None


def with_color(colors: Colors, color: Recolor | Curve) -> Colors:
    """One more color step at the end, folded into the last where it is of the same kind."""
    last = colors[-1] if colors else None
    if isinstance(last, Recolor) and isinstance(color, Recolor):
        return (*colors[:-1], last.then(color))
    if isinstance(last, Curve) and isinstance(color, Curve):
        return (*colors[:-1], last.then(color))
    return (*colors, color)


def _check_size(step: str, size: Size) -> None:
    if min(size) < 1 or max(size) > LARGEST_SIDE or size.width * size.height > LARGEST_AREA:
        raise RenderError(f"step {step}: a picture of {size.width}×{size.height} px can't be made")


def _add(plan: Plan, step: str, effect: Effect) -> None:
    """One more effect at the end of a plan."""
    match effect:
        case Move():
            _add_move(plan, step, effect)
        case Bend():
            _add_bend(plan, step, effect)
        case Recolor() | Curve():
            _add_color(plan, effect)
        case PixelOperation():
            plan.stages.append(effect)
        case Cover():
            plan.stages.append(Painted(step, effect))
        case Gray():
            plan.gray = True
        case _:
            raise RenderError(f"step {step}: {type(effect).__name__} can't be used within objects")


def _add_color(plan: Plan, color: Recolor | Curve) -> None:
    last = plan.stages[-1] if plan.stages else None
    if isinstance(last, Resample) and last.window is None:
        last.colors = with_color(last.colors, color)
    elif isinstance(last, tuple):
        plan.stages[-1] = with_color(last, color)
    else:
        plan.stages.append((color,))


def _geometry(plan: Plan, exposes: bool, move: Move | Bend) -> Resample:
    """The run that a move or a bend may join, or a new one at the end of the plan."""
    last = plan.stages[-1] if plan.stages else None
    recolored = isinstance(last, tuple) or (isinstance(last, Resample) and last.colors != ())
    solid_after_color = exposes and move.edges == "solid" and recolored
    if isinstance(last, tuple) and not solid_after_color:
        plan.stages[-1] = last = Resample(plan.size, plan.size, colors=last)
    if not isinstance(last, Resample) or solid_after_color or not _joins(last, move, exposes):
        last = Resample(plan.size, plan.size)
        plan.stages.append(last)
    return last


def _add_move(plan: Plan, step: str, move: Move) -> None:
    _check_size(step, move.size)
    # Moves without edges, such as flips and crops, fill their frame by what they are.
    exposes = move.edges is not None and exposed_share(move.matrix, plan.size, move.window or move.size.rect) > 0.0
    run = _geometry(plan, exposes, move)
    if exposes:
        run.edges, run.edge_color = move.edges, move.edge_color
    run.extend(step, move)
    plan.size = move.size


def _add_bend(plan: Plan, step: str, bend: Bend) -> None:
    run = _geometry(plan, bend.edges is not None, bend)
    if bend.edges is not None:
        run.edges, run.edge_color = bend.edges, bend.edge_color
    run.bend(step, bend)


def _joins(run: Resample, move: Move | Bend, exposes: bool) -> bool:
    """Whether a move or a bend may become part of the run before it."""
    if run.window is not None:
        return False
    if isinstance(move, Move) and (not move.matrix.affine or not run.matrix.affine):
        whole = run.matrix.then(move.matrix)
        frame = (run.bends[-1][1].size if run.bends else run.before).rect
        if min(whole.depth(x, y) for x, y in IDENTITY.quad(frame)) < SHALLOWEST:
            return False
    if not exposes:
        return True
    return not run.cut and (run.edges is None or (run.edges, run.edge_color) == (move.edges, move.edge_color))
